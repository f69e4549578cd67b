//go:build unix

package lock

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// holding runs do while it holds the lock of an open file.
func holding(f *os.File, do func() error) error {
	for {
		err := unix.Flock(int(f.Fd()), unix.LOCK_EX)
		if err == nil {
			break
		}
		if !errors.Is(err, unix.EINTR) {
			return os.NewSyscallError("flock", err)
		}
	}
	defer func() { _ = unix.Flock(int(f.Fd()), unix.LOCK_UN) }()
	return do()
}
