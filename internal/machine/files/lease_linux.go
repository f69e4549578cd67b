package files

import (
	"errors"

	"golang.org/x/sys/unix"
)

// isOpenForWriting tells whether a process has a file open for writing, or mapped so: nobody is
// granted a lease for reading then (fcntl(2), F_SETLEASE). Where leases cannot be had, because the
// file is somebody else's or its file system has none, nothing is known, and the answer is no.
func isOpenForWriting(fd int) bool {
	_, err := unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_RDLCK)
	if err != nil {
		return errors.Is(err, unix.EAGAIN)
	}
	_, _ = unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_UNLCK)
	return false
}
