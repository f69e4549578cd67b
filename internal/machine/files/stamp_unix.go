//go:build linux || darwin

package files

import (
	"errors"
	"io/fs"
	"syscall"

	"golang.org/x/sys/unix"
)

func stampOf(info fs.FileInfo) (stamp, bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return stamp{}, false
	}
	m, c := times(st)
	return stamp{Dev: uint64(st.Dev), Ino: uint64(st.Ino), Size: st.Size, Mode: uint32(st.Mode), Mtime: m, Ctime: c}, true
}

// StatusOf returns the status of an open file; zero if there is an error.
func StatusOf(fd int) Status {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return Status{}
	}
	return StatusIn(&st)
}

// StatusIn returns the status that the system gave.
func StatusIn(st *unix.Stat_t) Status { return Status{asStamp(st)} }

// statusOf takes the status of a path.
func statusOf(full string) (stamp, error) { return statAt(unix.AT_FDCWD, full) }

// statAt takes the status of a name in an open directory.
func statAt(dir int, name string) (stamp, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return stamp{}, err
	}
	return asStamp(&st), nil
}

// regular tells whether the status is of a regular file.
func (s stamp) regular() bool { return s.Mode&syscall.S_IFMT == syscall.S_IFREG }

func isNotDir(err error) bool { return errors.Is(err, syscall.ENOTDIR) }
