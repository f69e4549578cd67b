//go:build linux || darwin

package files

import (
	"errors"
	"io/fs"
	"sync"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/digest"
)

var buffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// sum reads a file on one descriptor, with its status before and after. It uses
// system calls directly: for many small files, the overhead of os.File would be
// half the time. It does not read bytes appended meanwhile; the status
// afterwards shows them.
func sum(full string) (d digest.Digest, before, after stamp, err error) {
	fail := func(op string, err error) (digest.Digest, stamp, stamp, error) {
		return d, before, after, &fs.PathError{Op: op, Path: full, Err: err}
	}
	fd, err := retried(func() (int, error) { return unix.Open(full, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NOFOLLOW, 0) })
	if err != nil {
		return fail("open", err)
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return fail("stat", err)
	}
	before = asStamp(&st)
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	h := digest.New()
	for left := before.Size; left > 0; {
		n, err := retried(func() (int, error) { return unix.Read(fd, (*buf)[:min(int64(len(*buf)), left)]) })
		if err != nil {
			return fail("read", err)
		}
		if n == 0 {
			break // it was truncated, and its status will show that
		}
		_, _ = h.Write((*buf)[:n])
		left -= int64(n)
	}
	if err := unix.Fstat(fd, &st); err != nil {
		return fail("stat", err)
	}
	return digest.From(h), before, asStamp(&st), nil
}

// retried repeats a call that a signal interrupted.
func retried(call func() (int, error)) (int, error) {
	for {
		n, err := call()
		if !errors.Is(err, unix.EINTR) {
			return n, err
		}
	}
}

func asStamp(st *unix.Stat_t) stamp {
	return stamp{
		Dev: uint64(st.Dev), Ino: uint64(st.Ino), Size: st.Size, Mode: uint32(st.Mode), Mtime: st.Mtim.Nano(), Ctime: st.Ctim.Nano(),
	}
}
