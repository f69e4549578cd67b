// Package files knows the files of a checkout: which count, their digests, and which
// differ from a commit, remembered between runs while the status of a file shows no change.
package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"
	"unicode/utf8"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// stamp is the part of a file's status that detects changes. While it is equal,
// and its times are safely before the moment at which the digest was taken, the
// contents are equal too.
type stamp struct {
	Dev, Ino     uint64
	Size         int64
	Mode         uint32
	Mtime, Ctime int64 // nanoseconds since 1970
}

// kind returns the kind of a regular file.
func (s stamp) kind() listing.Kind { return listing.KindOf(fs.FileMode(s.Mode).Perm()) }

type remembered struct {
	Stamp  stamp
	Taken  int64 // nanoseconds since 1970, before the file was read
	Digest digest.Digest
}

// safe tells whether a change after the digest was taken would show in the
// times: they are 20 ms before it, or 2 s if the file system stores whole
// seconds only.
func (r remembered) safe() bool {
	return settled(r.Stamp.Mtime, r.Taken) && settled(r.Stamp.Ctime, r.Taken)
}

func settled(t, taken int64) bool {
	margin := 20 * time.Millisecond
	if t%int64(time.Second) == 0 {
		margin = 2 * time.Second
	}
	return t+int64(margin) < taken
}

// Memory remembers digests by path below a root. It is safe for concurrent
// use.
type Memory struct {
	root    string
	mu      sync.Mutex
	known   map[string]remembered
	changed bool

	manifests map[rowSet]digest.Digest // of sets of rows that were seen before
	used      map[rowSet]bool          // in this run
	learned   bool
	load      func() // reads the remembered digests, on first use
	forgone   bool   // nothing was read, and nothing is saved
	open      bool   // a file was open for writing when it was read
}

// NewMemory returns an empty memory of the files below root.
func NewMemory(root string) *Memory {
	return &Memory{
		load:      func() {},
		root:      root,
		known:     map[string]remembered{},
		manifests: map[rowSet]digest.Digest{},
		used:      map[rowSet]bool{},
	}
}

// usualRow is about how many bytes a row with a path takes.
const usualRow = 110

// digestsFormat has, for each path, the path and the fields of [remembered] in
// order.
var digestsFormat = statefile.Register(statefile.Format[map[string]remembered]{
	Name: "digests", Version: 3,
	Encode: func(w *statefile.Writer, known map[string]remembered) {
		w.Room(len(known) * usualRow)
		for name, r := range known {
			w.Text(name)
			writeStamp(w, r.Stamp)
			w.Fixed(uint64(r.Taken))
			w.Digest(r.Digest)
		}
	},
	Decode: func(r *statefile.Reader) map[string]remembered {
		known := make(map[string]remembered, r.Left()/usualRow)
		for r.More() {
			name := r.Text()
			known[name] = remembered{readStamp(r), int64(r.Fixed()), r.Digest()}
		}
		return known
	},
})

// Load names the file with the digests of earlier runs; it is read on first
// use. A file that is missing, damaged or of another version is not an error:
// everything is read again.
func (m *Memory) Load(file string) {
	m.load = sync.OnceFunc(func() {
		m.loadManifests(file + "-manifests")
		if known, ok := digestsFormat.Load(file); ok {
			m.known = known
		}
	})
}

// Forgo makes the memory start empty and not be saved: so little has to be read
// that reading it is faster than loading all remembered digests. It must be
// called before the first use.
func (m *Memory) Forgo() {
	m.load, m.forgone = func() {}, true
}

// Save writes the memory for the next run, if it has anything new.
func (m *Memory) Save(file string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.forgone {
		return nil
	}
	if err := m.saveManifests(file + "-manifests"); err != nil || !m.changed {
		return err
	}
	m.changed = false
	return digestsFormat.Save(file, m.known)
}

// SawOpen tells whether a file was open for writing when it was read: its status says nothing then.
func (m *Memory) SawOpen() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.open
}

// ErrMoving is returned for a file that kept changing while it was read.
var ErrMoving = errors.New("the file keeps changing while it is read")

// Row returns the row of a path; it reads the file only if its digest is not
// known. It returns [fs.ErrNotExist] for a missing path and for a directory.
func (m *Memory) Row(path string) (listing.Row, error) { return m.rowAt(path, stamp{}) }

// closedDirectory returns the error for a directory in the place of a file. It is listed as one if
// nobody can tell what is in it: whatever may read that fails, and nothing else does.
func closedDirectory(full, path string) error {
	d, err := os.Open(full)
	if errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("the directory %s cannot be read, so what is in it is not known: allow it, remove it, or ignore it", path)
	}
	if err == nil {
		d.Close()
	}
	return fs.ErrNotExist
}

func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// rowAt is Row for a path whose status was just taken; a zero status means it
// was not.
func (m *Memory) rowAt(path string, at stamp) (listing.Row, error) {
	if !utf8.ValidString(path) { // only what reads it fails
		return listing.Row{}, fmt.Errorf("the path %q is not UTF-8: rename the file, or ignore it", path)
	}
	m.load()
	if at != (stamp{}) {
		m.mu.Lock()
		r, ok := m.known[path]
		m.mu.Unlock()
		if ok && r.Stamp == at && r.safe() {
			return listing.Row{Path: path, Kind: at.kind(), Size: at.Size, Digest: r.Digest}, nil
		}
	}
	full := filepath.Join(m.root, filepath.FromSlash(path))
	if at.regular() { // as it was a moment ago
		row, err := m.read(full, listing.Row{Path: path, Kind: listing.File})
		if !errors.Is(err, errNoFile) {
			return row, err
		}
	}
	info, err := os.Lstat(full)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) || isNotDir(err) {
			return listing.Row{}, fs.ErrNotExist
		}
		return listing.Row{}, err
	}
	row := listing.Row{Path: path, Kind: listing.File, Size: info.Size()}
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(full)
		return listing.Row{Path: path, Kind: listing.Link, Size: int64(len(target)), Target: filepath.ToSlash(target)}, err
	case info.IsDir():
		return listing.Row{}, closedDirectory(full, path)
	case !info.Mode().IsRegular():
		return listing.Row{}, fmt.Errorf("%s is a device, a pipe or a socket and cannot be read as a file: ignore it", path)
	default:
		row.Kind = listing.KindOf(info.Mode().Perm())
	}
	m.mu.Lock()
	r, ok := m.known[path]
	m.mu.Unlock()
	if st, has := stampOf(info); ok && has && r.Stamp == st && r.safe() {
		row.Digest = r.Digest
		return row, nil
	}
	if row, err = m.read(full, row); errors.Is(err, errNoFile) {
		err = fmt.Errorf("%s: %w", path, ErrMoving)
	}
	return row, err
}

// errNoFile is for what is there, but not a regular file.
var errNoFile = errors.New("it is not a regular file")

func (m *Memory) read(full string, row listing.Row) (listing.Row, error) {
	for range 3 {
		taken := time.Now().UnixNano()
		d, before, after, open, err := sum(full)
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) || isNotDir(err) {
				return row, fs.ErrNotExist
			}
			return row, err
		}
		if before != after {
			continue
		}
		row.Digest, row.Size = d, after.Size
		row.Kind = after.kind()
		if open {
			m.mu.Lock()
			m.open = true
			m.mu.Unlock()
		}
		if after.Ino != 0 && !open { // otherwise the system has no status that can be trusted
			m.mu.Lock()
			m.known[row.Path] = remembered{after, taken, d}
			m.changed = true
			m.mu.Unlock()
		}
		return row, nil
	}
	return row, fmt.Errorf("%s: %w", row.Path, ErrMoving)
}
