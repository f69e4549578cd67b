//go:build linux || darwin

package files

import (
	"errors"
	"hash"
	"io/fs"
	"sync"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/digest"
)

var buffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// sum reads a file on one descriptor, with its status before and after. It uses
// system calls directly: for many small files, the overhead of os.File would be
// half the time. It does not read bytes appended meanwhile; the status
// afterwards shows them. The error wraps [errNoFile] if something else is there. Open tells whether
// somebody has it open for writing, or mapped: a second write to a mapped page does not show in the
// status.
func sum(full string) (d digest.Digest, before, after stamp, open bool, err error) {
	fail := func(op string, err error) (digest.Digest, stamp, stamp, bool, error) {
		return d, before, after, open, &fs.PathError{Op: op, Path: full, Err: err}
	}
	// A pipe is not waited for.
	fd, err := retried(func() (int, error) {
		return unix.Open(full, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	})
	if errors.Is(err, unix.ELOOP) || errors.Is(err, unix.ENXIO) {
		err = errNoFile // but a link, or a socket
	}
	if err != nil {
		return fail("open", err)
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return fail("stat", err)
	}
	if before = asStamp(&st); !before.regular() {
		return fail("read", errNoFile)
	}
	if d, err = sumOf(fd, before.Size); err != nil {
		return fail("read", err)
	}
	if err := unix.Fstat(fd, &st); err != nil {
		return fail("stat", err)
	}
	return d, before, asStamp(&st), isOpenForWriting(fd), nil
}

// sumOf reads so many bytes of a file; fewer if it was truncated, which its status will show.
func sumOf(fd int, size int64) (d digest.Digest, err error) {
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	var h hash.Hash // nil: everything was read at once, as of most files
	for left := size; left > 0; {
		n, err := retried(func() (int, error) { return unix.Read(fd, (*buf)[:min(int64(len(*buf)), left)]) })
		switch {
		case err != nil:
			return d, err
		case n == 0:
			left = 0
		case h == nil && int64(n) == size:
			return digest.Of((*buf)[:n]), nil
		}
		if h == nil {
			h = digest.New()
		}
		_, _ = h.Write((*buf)[:n])
		left -= int64(n)
	}
	if h == nil {
		return digest.Of(nil), nil
	}
	return digest.From(h), nil
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
