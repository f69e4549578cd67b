//go:build unix

package outputs

import (
	"errors"
	"io"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/machine/files"
)

// newFile is a file that is being written. It is a bare descriptor: an [os.File] asks the
// system four times whether a file is one to wait for, which shows with ten thousand of them.
type newFile struct {
	fd   int
	name string
}

func create(name string, mode fs.FileMode) (newFile, error) {
	fd, err := openat(unix.AT_FDCWD, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_CLOEXEC|unix.O_NOFOLLOW, uint32(mode.Perm()))
	if err != nil {
		return newFile{}, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return newFile{fd, name}, nil
}

func (f newFile) Write(p []byte) (int, error) {
	done := 0
	for done < len(p) {
		n, err := unix.Write(f.fd, p[done:])
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return done, &fs.PathError{Op: "write", Path: f.name, Err: err}
		case n == 0:
			return done, io.ErrShortWrite
		default:
			done += n
		}
	}
	return done, nil
}

// finish sets the mode, if it is another because of the process's mask, and returns the file's
// status: asking takes less than setting.
func (f newFile) finish(want fs.FileMode) (files.Status, error) {
	var st unix.Stat_t
	err := unix.Fstat(f.fd, &st)
	if err == nil && fs.FileMode(st.Mode).Perm() != want {
		if err = unix.Fchmod(f.fd, uint32(want)); err == nil {
			err = unix.Fstat(f.fd, &st)
		}
	}
	if err != nil {
		return files.Status{}, os.NewSyscallError("chmod", err)
	}
	return files.StatusIn(&st), nil
}

// Close closes the file. It is not repeated after an interruption, which may have closed it.
func (f newFile) Close() error {
	if err := unix.Close(f.fd); err != nil && !errors.Is(err, unix.EINTR) {
		return &fs.PathError{Op: "close", Path: f.name, Err: err}
	}
	return nil
}
