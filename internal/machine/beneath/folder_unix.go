//go:build unix

package beneath

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Folder is an open directory in which names are looked for. It is a bare descriptor: an
// [os.Root] opens every directory on the way again for each name, and asks four times as much of
// the system.
type Folder struct {
	fd   int
	path string
	file *os.File // the same descriptor, when its entries were read
}

// openTop opens a directory by its path.
func openTop(root string) (*Folder, error) {
	return openedFolder(root, func() (int, error) { return unix.Open(root, asFolder&^unix.O_NOFOLLOW, 0) })
}

const asFolder = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC

// Open opens a directory in this one. The error wraps [fs.ErrNotExist] if the name is missing, and
// [ErrNoDirectory] if it is a link or a file.
func (f *Folder) Open(name string) (*Folder, error) {
	return openedFolder(path.Join(f.path, name), func() (int, error) { return unix.Openat(f.fd, name, asFolder, 0) })
}

func openedFolder(at string, open func() (int, error)) (*Folder, error) {
	fd, err := retried(open)
	if errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP) {
		return nil, fmt.Errorf("%s %w", at, ErrNoDirectory)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: at, Err: err}
	}
	return &Folder{fd: fd, path: at}, nil
}

// Type returns the type bits of what a name is; links are not followed.
func (f *Folder) Type(name string) (fs.FileMode, error) {
	var st unix.Stat_t
	if _, err := retried(func() (int, error) { return 0, unix.Fstatat(f.fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) }); err != nil {
		return 0, &fs.PathError{Op: "stat", Path: path.Join(f.path, name), Err: err}
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		return 0, nil
	case unix.S_IFDIR:
		return fs.ModeDir, nil
	case unix.S_IFLNK:
		return fs.ModeSymlink, nil
	}
	return fs.ModeIrregular, nil
}

// IsMountIn tells whether another file system begins in this directory of another one. A directory
// of the same file system that is mounted there is not noticed.
func (f *Folder) IsMountIn(parent *Folder) bool {
	var here, above unix.Stat_t
	return unix.Fstat(f.fd, &here) == nil && unix.Fstat(parent.fd, &above) == nil && here.Dev != above.Dev
}

// Entries returns what is in the directory, in no order. It can be called once.
func (f *Folder) Entries() ([]fs.DirEntry, error) {
	f.file = os.NewFile(uintptr(f.fd), filepath.FromSlash(f.path))
	return f.file.ReadDir(-1)
}

// Close closes the directory.
func (f *Folder) Close() {
	if f.file != nil {
		f.file.Close()
		return
	}
	unix.Close(f.fd)
}

// retried repeats a call that a signal interrupted.
func retried(call func() (int, error)) (n int, err error) {
	for n, err = call(); errors.Is(err, unix.EINTR); n, err = call() {
	}
	return n, err
}
