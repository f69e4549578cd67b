package blobs

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Dir is a [Store] in a directory.
type Dir struct{ root string }

// OpenDir creates the directory if necessary.
func OpenDir(root string) (*Dir, error) {
	if err := os.MkdirAll(filepath.Join(root, "tmp"), 0o700); err != nil {
		return nil, fmt.Errorf("the blobs' directory: %w", err)
	}
	return &Dir{root}, nil
}

func (d *Dir) path(object string) (string, error) {
	if !fs.ValidPath(object) || strings.HasPrefix(object, "tmp/") {
		return "", fmt.Errorf("%q is not a valid name of an object", object)
	}
	return filepath.Join(d.root, filepath.FromSlash(object)), nil
}

// Put implements [Store].
func (d *Dir) Put(ctx context.Context, object string, r io.Reader) error {
	to, err := d.path(object)
	if err != nil {
		return err
	}
	var b [12]byte
	_, _ = rand.Read(b[:])
	f, err := os.OpenFile(filepath.Join(d.root, "tmp", hex.EncodeToString(b[:])), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	buf := buffers.Get().(*[]byte)
	_, err = io.CopyBuffer(struct{ io.Writer }{f}, full{r}, *buf)
	buffers.Put(buf)
	if err == nil {
		err = ctx.Err()
	}
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), to); err != nil {
		return err
	}
	return syncDir(filepath.Dir(to))
}

// buffers are what objects are written from. Linux keeps a file in memory in pieces of up to the
// size of what was written at once, and sends large pieces faster.
var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// full fills what it reads into, except at the end.
type full struct{ r io.Reader }

func (f full) Read(p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		var more int
		more, err = f.r.Read(p[n:])
		n += more
	}
	return n, err
}

// syncDir makes a rename durable.
func syncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// Open implements [Store].
func (d *Dir) Open(_ context.Context, object string, from, length int64) (io.ReadCloser, error) {
	p, err := d.path(object)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(p)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNotExist, object)
	}
	if err != nil {
		return nil, err
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &part{f, io.LimitedReader{R: f, N: length}}, nil
}

// part is a part of a file that a connection can send without copying.
type part struct {
	f *os.File
	r io.LimitedReader
}

func (p *part) Read(b []byte) (int, error) { return p.r.Read(b) }
func (p *part) Close() error               { return p.f.Close() }

// File returns the file, for whoever can send it without copying.
func (p *part) File() *os.File { return p.f }

// WriteTo implements [io.WriterTo].
func (p *part) WriteTo(w io.Writer) (int64, error) { return io.Copy(w, &p.r) }

// Delete implements [Store].
func (d *Dir) Delete(_ context.Context, object string) error {
	p, err := d.path(object)
	if err != nil {
		return err
	}
	if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
