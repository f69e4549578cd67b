//go:build linux || darwin

package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sys/unix"
)

// Reading returns the file system below a root, for whoever reads many small files:
// each takes three system calls. Links are followed inside the root only, and nothing but regular
// files of at most [MaxRead] bytes is read: whoever sends a change can put anything in the place of
// a manifest.
func Reading(root string) fs.FS { return reading{os.DirFS(root).(directory), root} }

type reading struct {
	directory
	root string
}

// directory is what [os.DirFS] returns.
type directory interface {
	fs.StatFS
	fs.ReadDirFS
	fs.ReadFileFS
	fs.ReadLinkFS
}

// ReadFile reads a regular file with one read, if it has no more than firstRead bytes.
func (r reading) ReadFile(name string) ([]byte, error) {
	first := firstReads.Get().(*[firstRead]byte)
	defer firstReads.Put(first)
	text, err := r.ReadInto(name, first[:0])
	if len(text) <= len(first) {
		text = append([]byte(nil), text...)
	}
	return text, err
}

var firstReads = sync.Pool{New: func() any { return new([firstRead]byte) }}

// Open opens a regular file or a directory.
func (r reading) Open(name string) (fs.File, error) { return openBeneath(r.root, name) }

// ReadInto reads a file into a buffer, or into a new one if that is too small.
func (r reading) ReadInto(name string, buf []byte) ([]byte, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	fd, err := unix.Open(filepath.Join(r.root, filepath.FromSlash(name)), unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if errors.Is(err, unix.EINTR) || errors.Is(err, unix.ELOOP) {
		return readBeneath(r.root, name)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	defer unix.Close(fd)
	if cap(buf) < firstRead {
		buf = make([]byte, firstRead)
	}
	buf = buf[:cap(buf)]
	n, err := unix.Read(fd, buf)
	switch {
	case errors.Is(err, unix.EINTR) || n == len(buf):
		return readBeneath(r.root, name)
	case err != nil:
		return nil, &fs.PathError{Op: "read", Path: name, Err: err}
	}
	return buf[:n], nil
}

// firstRead is the size in bytes up to which most source files are.
const firstRead = 16 << 10
