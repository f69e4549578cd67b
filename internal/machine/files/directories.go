package files

import (
	"encoding/binary"
	"strings"
	"sync"
)

// directories remembers the names in directories. The status of a directory
// changes whenever a name is added or removed, so the names are valid while the
// status is the same and its times are safely before the moment at which they
// were read.
type directories struct {
	mu      sync.Mutex
	known   map[string]listed
	seen    map[string]listed // seen in this survey
	changed bool
}

type listed struct {
	st    stamp
	taken int64
	names []string // sorted
}

const directoryFields = stampSize + 8 + 4 // separates a path from its names

const directoriesHead = "grayloft-directories 1\n"

// of returns the remembered names of a directory with that status.
func (d *directories) of(dir string, st stamp) ([]string, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	l, ok := d.known[dir]
	if !ok || l.st != st || !(remembered{Stamp: l.st, Taken: l.taken}).safe() {
		return nil, false
	}
	d.seen[dir] = l
	return l.names, true
}

func (d *directories) note(dir string, st stamp, taken int64, names []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.seen[dir] = listed{st, taken, names}
	d.changed = true
}

// The file has, for each directory, its path, its status, the time, the number
// of names, and the names; all texts end in a NUL.
func loadDirectories(file string) *directories {
	d := &directories{known: map[string]listed{}, seen: map[string]listed{}}
	text := string(opened(directoriesHead, file))
	for len(text) > 0 {
		dir, rest, ok := strings.Cut(text, "\x00")
		if !ok || len(rest) < directoryFields {
			return &directories{known: map[string]listed{}, seen: d.seen}
		}
		b := []byte(rest[:directoryFields])
		l := listed{st: readStamp(b), taken: int64(binary.LittleEndian.Uint64(b[stampSize:]))}
		n := int(binary.LittleEndian.Uint32(b[stampSize+8:]))
		text = rest[directoryFields:]
		if n > len(text) {
			return &directories{known: map[string]listed{}, seen: d.seen}
		}
		l.names = make([]string, n)
		for i := range l.names {
			l.names[i], text, _ = strings.Cut(text, "\x00")
		}
		d.known[dir] = l
	}
	return d
}

func (d *directories) save(file string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.changed && len(d.seen) == len(d.known) {
		return
	}
	var b []byte
	for dir, l := range d.seen {
		b = append(append(b, dir...), 0)
		b = appendStamp(b, l.st)
		b = binary.LittleEndian.AppendUint64(b, uint64(l.taken))
		b = binary.LittleEndian.AppendUint32(b, uint32(len(l.names)))
		for _, n := range l.names {
			b = append(append(b, n...), 0)
		}
	}
	_ = WriteFile(file, sealed(directoriesHead, b))
}
