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

// source is a file that is being read, as a bare descriptor like [newFile].
type source struct {
	fd     int
	name   string
	size   int64
	mode   fs.FileMode
	opened files.Status // when it was opened
}

// openSource opens a plain file in an open directory, and refuses everything else that took its
// place meanwhile. It neither follows links nor waits for the writer of a pipe.
func openSource(in *os.File, name string) (source, error) {
	fd, err := openat(int(in.Fd()), name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.ELOOP) {
		return source{}, errReplaced
	}
	if err != nil {
		return source{}, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	var st unix.Stat_t
	err = unix.Fstat(fd, &st)
	if err == nil && st.Mode&unix.S_IFMT != unix.S_IFREG {
		err = errReplaced
	}
	if err != nil {
		unix.Close(fd)
		return source{}, err
	}
	return source{fd, name, st.Size, fs.FileMode(st.Mode).Perm(), files.StatusIn(&st)}, nil
}

// openat opens a file, again if that was interrupted.
func openat(in int, name string, flags int, mode uint32) (fd int, err error) {
	for {
		if fd, err = unix.Openat(in, name, flags, mode); !errors.Is(err, unix.EINTR) {
			return fd, err
		}
	}
}

func (s source) Read(p []byte) (int, error) {
	for {
		n, err := unix.Read(s.fd, p)
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return 0, &fs.PathError{Op: "read", Path: s.name, Err: err}
		case n == 0 && len(p) > 0:
			return 0, io.EOF
		default:
			return n, nil
		}
	}
}

// status returns the file's status.
func (s source) status() files.Status { return files.StatusOf(s.fd) }

// Close closes the file.
func (s source) Close() { unix.Close(s.fd) }
