package files

import (
	"fmt"
	"io/fs"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Status is the part of a file's status that shows whether it changed. It is zero where the
// system has none that can be trusted.
type Status struct{ of stamp }

// StatusOfInfo returns the status in a [fs.FileInfo]; ok is false if the system has none that can be
// trusted.
func StatusOfInfo(info fs.FileInfo) (s Status, ok bool) {
	st, ok := stampOf(info)
	return Status{st}, ok && st.Ino != 0
}

// String returns a text that is another one for every other status.
func (s Status) String() string {
	return fmt.Sprintf("%x.%x %d %o %d %d", s.of.Dev, s.of.Ino, s.of.Size, s.of.Mode, s.of.Mtime, s.of.Ctime)
}

// SettledBefore tells whether a change after a moment would show in the status.
func (s Status) SettledBefore(at time.Time) bool {
	return remembered{Stamp: s.of, Taken: at.UnixNano()}.safe()
}

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
