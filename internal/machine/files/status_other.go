//go:build darwin || (linux && !amd64 && !arm64)

package files

import "golang.org/x/sys/unix"

// statTerminated takes the status of a name in an open directory; the last byte of the name is
// zero.
func statTerminated(dir int, name string, st *unix.Stat_t) error {
	return unix.Fstatat(dir, name[:len(name)-1], st, unix.AT_SYMLINK_NOFOLLOW)
}
