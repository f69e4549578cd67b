//go:build linux && (amd64 || arm64)

package files

import (
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// statTerminated takes the status of a name in an open directory; the last byte of the name is
// zero. [unix.Fstatat] copies each name to put that byte behind it.
func statTerminated(dir int, name string, st *unix.Stat_t) error {
	_, _, errno := syscall.Syscall6(unix.SYS_NEWFSTATAT, uintptr(dir), uintptr(unsafe.Pointer(unsafe.StringData(name))),
		uintptr(unsafe.Pointer(st)), unix.AT_SYMLINK_NOFOLLOW, 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}
