package api

import (
	"errors"
	"io"
	"net/http"
	"os"
)

// seekable reads a stored object for [http.ServeContent]: it is opened at the
// position where reading starts.
type seekable struct {
	size int64
	open func(from int64) (io.ReadCloser, error)
	at   int64
	now  io.ReadCloser // nil: not open at this position
}

// Seek implements [io.Seeker].
func (r *seekable) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += r.at
	case io.SeekEnd:
		offset += r.size
	}
	if offset < 0 {
		return 0, errors.New("seek before the beginning of an object")
	}
	if offset != r.at {
		r.close()
		r.at = offset
	}
	return offset, nil
}

// begin opens the object, so that a missing one is noticed before the answer
// begins.
func (r *seekable) begin() (err error) {
	if r.now == nil {
		r.now, err = r.open(r.at)
	}
	return err
}

// Read implements [io.Reader].
func (r *seekable) Read(p []byte) (int, error) {
	if r.at >= r.size {
		return 0, io.EOF
	}
	if err := r.begin(); err != nil {
		return 0, err
	}
	n, err := r.now.Read(p)
	r.at += int64(n)
	return n, err
}

func (r *seekable) close() {
	if r.now != nil {
		r.now.Close()
		r.now = nil
	}
}

// file returns the open file at the current position; nil if the object is not
// a file.
func (r *seekable) file() *os.File {
	if f, ok := r.now.(interface{ File() *os.File }); ok {
		return f.File()
	}
	return nil
}

// countingWriter counts the bytes of a body, and passes files on so that the
// system sends them without copying.
type countingWriter struct {
	http.ResponseWriter
	head http.ResponseWriter // the framework's, which has to know that the answer began
	n    int64
}

// WriteHeader implements [http.ResponseWriter].
func (w *countingWriter) WriteHeader(status int) {
	w.head.WriteHeader(status)
	if g, ok := w.head.(interface{ WriteHeaderNow() }); ok {
		g.WriteHeaderNow()
	}
}

// Write implements [io.Writer].
func (w *countingWriter) Write(p []byte) (int, error) {
	n, err := w.ResponseWriter.Write(p)
	w.n += int64(n)
	return n, err
}

// ReadFrom implements [io.ReaderFrom].
func (w *countingWriter) ReadFrom(r io.Reader) (n int64, err error) {
	if part, ok := r.(*io.LimitedReader); ok {
		if content, ok := part.R.(*seekable); ok && content.begin() == nil && content.file() != nil {
			r = &io.LimitedReader{R: content.file(), N: part.N}
		}
	}
	if to, ok := w.ResponseWriter.(io.ReaderFrom); ok {
		n, err = to.ReadFrom(r)
	} else {
		n, err = io.Copy(struct{ io.Writer }{w.ResponseWriter}, r)
	}
	w.n += n
	return n, err
}
