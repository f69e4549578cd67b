//go:build !unix

package beneath

import (
	"io/fs"
	"os"
)

// Folder is an open directory in which names are looked for.
type Folder struct{ root *os.Root }

// openTop opens a directory by its path.
func openTop(root string) (*Folder, error) {
	at, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	return &Folder{at}, nil
}

// Open opens a directory in this one. The error wraps [fs.ErrNotExist] if the name is missing, and
// [ErrNoDirectory] if it is a link or a file.
func (f *Folder) Open(name string) (*Folder, error) {
	next, err := openStep(f.root, name)
	if err != nil {
		return nil, err
	}
	return &Folder{next}, nil
}

// Type returns the type bits of what a name is; links are not followed.
func (f *Folder) Type(name string) (fs.FileMode, error) {
	info, err := f.root.Lstat(name)
	if err != nil {
		return 0, err
	}
	return info.Mode().Type(), nil
}

// IsMountIn cannot tell here.
func (f *Folder) IsMountIn(*Folder) bool { return false }

// Entries returns what is in the directory.
func (f *Folder) Entries() ([]fs.DirEntry, error) { return fs.ReadDir(f.root.FS(), ".") }

// Close closes the directory.
func (f *Folder) Close() { f.root.Close() }
