//go:build !linux && !darwin

package files

import (
	"io"
	"os"

	"grayloft.example/grayloft/internal/core/digest"
)

// sum reads a file on one descriptor, with its status before and after.
func sum(full string) (d digest.Digest, before, after stamp, open bool, err error) {
	f, err := os.Open(full)
	if err != nil {
		return d, before, after, false, err
	}
	defer f.Close()
	status := func() (stamp, error) {
		info, err := f.Stat()
		if err != nil {
			return stamp{}, err
		}
		return stamp{Size: info.Size(), Mode: uint32(info.Mode()), Mtime: info.ModTime().UnixNano()}, nil
	}
	if before, err = status(); err != nil {
		return d, before, after, false, err
	}
	h := digest.New()
	if _, err = io.Copy(h, f); err != nil {
		return d, before, after, false, err
	}
	after, err = status()
	return digest.From(h), before, after, false, err
}
