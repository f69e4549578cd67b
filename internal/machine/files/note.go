package files

import (
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Status is the part of a file's status that shows whether it changed. It is zero where the
// system has none that can be trusted.
type Status struct{ of stamp }

// Noted is the digest that the contents of a file had, and the status of the file.
type Noted struct {
	Path   string
	Status Status
	Digest digest.Digest
}

// Note remembers digests that the contents of files had at a time, if a change since then would
// show in their status: whoever read or wrote the files saves the next one reading them.
func (m *Memory) Note(at time.Time, list ...Noted) {
	m.load()
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range list {
		n := &list[i]
		r := remembered{n.Status.of, at.UnixNano(), n.Digest}
		if n.Status.of.Ino != 0 && r.safe() {
			m.known[n.Path] = r
			m.changed = true
		}
	}
}
