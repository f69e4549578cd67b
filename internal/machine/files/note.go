package files

import (
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Status is the part of a file's status that shows whether it changed. It is zero where the
// system has none that can be trusted.
type Status struct{ of stamp }

// Note remembers the digest that the contents of a file had at a time, if a change since then
// would show in its status: whoever read or wrote the file saves the next one reading it.
func (m *Memory) Note(path string, s Status, at time.Time, d digest.Digest) {
	r := remembered{s.of, at.UnixNano(), d}
	if s.of.Ino == 0 || !r.safe() {
		return
	}
	m.load()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.known[path] = r
	m.changed = true
}
