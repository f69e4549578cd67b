//go:build !unix

package outputs

import (
	"io/fs"
	"os"

	"grayloft.example/grayloft/internal/machine/files"
)

// newFile is a file that is being written.
type newFile struct{ *os.File }

func create(name string, mode fs.FileMode) (newFile, error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	return newFile{f}, err
}

func (f newFile) finish(want fs.FileMode) (files.Status, error) { return files.Status{}, f.Chmod(want) }
