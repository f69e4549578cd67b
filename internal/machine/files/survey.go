package files

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Survey is the files that tasks may read, with their status, at one moment.
type Survey struct {
	c     *Checkout
	list  []found
	taken int64 // nanoseconds since 1970, before the first status was taken
}

// Survey takes the status of all files that tasks may read.
func (c *Checkout) Survey(ctx context.Context) (*Survey, error) {
	taken := time.Now().UnixNano()
	c.mu.Lock()
	if c.early != nil {
		taken = c.earlyAt
	}
	c.mu.Unlock()
	list, err := c.everything(ctx)
	if err != nil {
		return nil, err
	}
	return &Survey{c, list, taken}, nil
}

// Taken returns when the survey began, in nanoseconds since 1970.
func (v *Survey) Taken() int64 { return v.taken }

// Sum returns a digest of all paths and what their statuses say. While it stays
// the same, and settled is true of when it was first taken, so do the contents
// of all files, and what their links lead to is there or not as it was.
func (v *Survey) Sum() (sum digest.Digest, settled bool) {
	h := digest.New()
	buf := make([]byte, 0, 1<<16)
	settled = true
	for _, f := range v.list {
		st := f.st
		if st == (stamp{}) {
			info, err := os.Lstat(filepath.Join(v.c.Root, filepath.FromSlash(f.path)))
			if err != nil {
				return sum, false
			}
			var ok bool
			if st, ok = stampOf(info); !ok {
				return sum, false
			}
		}
		if !(remembered{Stamp: st, Taken: v.taken}).safe() {
			settled = false
		}
		buf = append(append(buf, f.path...), 0)
		buf = appendStamp(buf, st)
		if st.Mode&syscall.S_IFMT == syscall.S_IFLNK {
			info, err := os.Stat(filepath.Join(v.c.Root, filepath.FromSlash(f.path)))
			if err == nil {
				to, _ := stampOf(info)
				buf = appendStamp(append(buf, 'l'), to)
			}
		}
		if len(buf) > 1<<15 {
			_, _ = h.Write(buf)
			buf = buf[:0]
		}
	}
	_, _ = h.Write(buf)
	return digest.From(h), settled
}

// Stamps returns what the statuses of paths, from the root, say, and whether
// all of them are settled as of a moment in nanoseconds since 1970.
func (c *Checkout) Stamps(b []byte, paths []string, taken int64) (out []byte, settled bool, err error) {
	settled = true
	for _, p := range paths {
		info, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(p)))
		if err != nil {
			return b, false, err
		}
		st, ok := stampOf(info)
		settled = settled && ok && (remembered{Stamp: st, Taken: taken}).safe()
		b = appendStamp(append(append(b, p...), 0), st)
	}
	return b, settled, nil
}

// Sealed and Opened keep a small state file with its head and a digest.
func Sealed(head string, body []byte) []byte { return sealed(head, body) }

// Opened returns the body of a file that [Sealed] made; nothing if it is
// missing, damaged or has another head.
func Opened(head, file string) []byte { return opened(head, file) }
