package files

import (
	"sync"

	"grayloft.example/grayloft/internal/machine/statefile"
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

// directoriesFormat has, for each directory, its path, its status, the time, and
// the names.
var directoriesFormat = statefile.Register(statefile.Format[map[string]listed]{
	Name: "directories", Version: 2,
	Encode: func(w *statefile.Writer, known map[string]listed) {
		for dir, l := range known {
			w.Text(dir)
			writeStamp(w, l.st)
			w.Fixed(uint64(l.taken))
			w.Uint(uint64(len(l.names)))
			for _, n := range l.names {
				w.Text(n)
			}
		}
	},
	Decode: func(r *statefile.Reader) map[string]listed {
		known := map[string]listed{}
		for r.More() {
			dir := r.Text()
			l := listed{st: readStamp(r), taken: int64(r.Fixed())}
			l.names = make([]string, r.Count(1))
			for i := range l.names {
				l.names[i] = r.Text()
			}
			known[dir] = l
		}
		return known
	},
})

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

func loadDirectories(file string) *directories {
	known, ok := directoriesFormat.Load(file)
	if !ok {
		known = map[string]listed{}
	}
	return &directories{known: known, seen: map[string]listed{}}
}

func (d *directories) save(file string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.changed || len(d.seen) != len(d.known) {
		_ = directoriesFormat.Save(file, d.seen)
	}
}
