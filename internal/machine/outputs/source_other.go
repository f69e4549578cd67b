//go:build !unix

package outputs

import (
	"io/fs"
	"os"
	"path/filepath"

	"grayloft.example/grayloft/internal/machine/files"
)

// source is a file that is being read.
type source struct {
	*os.File
	size   int64
	mode   fs.FileMode
	opened files.Status
}

// openSource opens a plain file in an open directory, and refuses everything else that took its
// place meanwhile.
func openSource(in *os.File, name string) (source, error) {
	full := filepath.Join(in.Name(), name)
	info, err := os.Lstat(full)
	if err != nil {
		return source{}, err
	}
	f, err := os.Open(full)
	if err != nil {
		return source{}, err
	}
	if now, err := f.Stat(); err != nil || !now.Mode().IsRegular() || !os.SameFile(info, now) {
		f.Close()
		return source{}, errReplaced
	}
	return source{File: f, size: info.Size(), mode: info.Mode().Perm()}, nil
}

func (source) status() files.Status { return files.Status{} }
