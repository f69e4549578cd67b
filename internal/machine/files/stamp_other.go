//go:build !linux && !darwin

package files

import (
	"io/fs"
	"os"
)

// Without a change time that programs cannot set, digests are not remembered:
// every file is read each time.
func stampOf(fs.FileInfo) (stamp, bool) { return stamp{}, false }

// statusOf takes what there is of the status of a path.
func statusOf(full string) (stamp, error) {
	info, err := os.Lstat(full)
	if err != nil {
		return stamp{}, err
	}
	return stamp{Size: info.Size(), Mode: uint32(info.Mode()), Mtime: info.ModTime().UnixNano()}, nil
}

// StatusOf returns nothing.
func StatusOf(int) Status { return Status{} }

// regular tells whether the status is of a regular file; here, that is not known.
func (stamp) regular() bool { return false }

func isNotDir(error) bool { return false }
