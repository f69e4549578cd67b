package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// MaxRead is the size in bytes of the largest file that [Reading] reads.
const MaxRead = 16 << 20

// errSpecial is the error for what is neither a regular file nor a directory.
var errSpecial = errors.New("it is no regular file")

// openBeneath opens a regular file or a directory below a root, which links do not lead out of.
func openBeneath(root, name string) (*os.File, error) {
	top, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer top.Close()
	info, err := top.Stat(filepath.FromSlash(name)) // opening a device may act on it
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errSpecial}
	}
	return top.Open(filepath.FromSlash(name))
}

// readBeneath reads a regular file below a root.
func readBeneath(root, name string) ([]byte, error) {
	f, err := openBeneath(root, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, MaxRead+1))
	if err == nil && len(text) > MaxRead {
		err = &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("it has more than %d MB", MaxRead>>20)}
	}
	return text, err
}
