package segments

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
)

// largestFrame is how many bytes a frame contains at most, uncompressed.
const largestFrame = 2 * Largest

// Read returns a blob, compared with its checksum. It uses the given buffer if that is large
// enough. The error wraps [fs.ErrNotExist] if there is no such blob.
func (s *Set) Read(d digest.Digest, buf []byte) ([]byte, error) {
	r, ok := s.idle.Get().(*Reader)
	if !ok {
		r = s.Reader()
	}
	defer s.idle.Put(r)
	text, err := r.Read(d, buf)
	if err == nil && r.lent {
		text = append(buf[:0], text...)
	}
	return text, err
}

// Reader reads blobs one after the other: those that are in one frame, and follow each other, are
// decompressed once. It is for one goroutine.
type Reader struct {
	s      *Set
	of     place  // of the frame that is open
	frame  []byte // room for one
	opened pack.Opened
	lent   bool // the last blob was returned in the room of the reader
}

// Reader returns a reader.
func (s *Set) Reader() *Reader { return &Reader{s: s} }

// Read is [Set.Read], but the contents are valid until the next call only.
func (r *Reader) Read(d digest.Digest, buf []byte) ([]byte, error) {
	for try := 0; ; try++ {
		text, p, err := r.read(d, buf)
		switch {
		case err == nil:
			return text, nil
		case errors.Is(err, fs.ErrNotExist) && p.segment != 0 && try == 0:
			// Somebody wrote the segment again.
			r.s.mu.Lock()
			r.s.index.forget()
			r.s.mu.Unlock()
			continue
		case errors.Is(err, fs.ErrNotExist):
			r.s.drop(d, p)
			return nil, err
		case !errors.Is(err, ErrDamaged) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF):
			return nil, err
		}
		r.s.drop(d, p)
		return nil, fmt.Errorf("blob %s: %w", d.Short(), ErrDamaged)
	}
}

func (r *Reader) read(d digest.Digest, buf []byte) ([]byte, place, error) {
	s := r.s
	s.mu.Lock()
	p, ok := s.find(d)
	switch {
	case !ok:
		s.mu.Unlock()
		return nil, p, fmt.Errorf("blob %s: %w", d.Short(), fs.ErrNotExist)
	case p.frame == 0:
		r.lent = false
		text, err := s.load(p, buf)
		return text, p, err
	case p.segment == r.of.segment && p.at == r.of.at:
		s.mu.Unlock()
	default:
		r.of = place{}
		var err error
		if r.frame, err = s.load(p, r.frame); err != nil {
			return nil, p, err
		}
		if err := r.opened.Open(r.frame, largestFrame); err != nil {
			return nil, p, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		r.of = p
	}
	r.lent = true
	text, ok := r.opened.Find(d)
	if !ok || len(text) != int(p.size) {
		return nil, p, ErrDamaged
	}
	return text, p, nil
}

// load reads what a segment has in a place, and compares it with its checksum. The caller holds the
// lock, which is free afterwards.
func (s *Set) load(p place, buf []byte) ([]byte, error) {
	n := int(p.stored())
	buf = slices.Grow(buf[:0], n)[:n]
	if w := s.writes; w != nil && p.segment == w.id && int64(p.at) >= w.written {
		copy(buf, w.unwritten(int64(p.at)))
		s.mu.Unlock()
	} else {
		f, err := s.open(p.segment)
		s.mu.Unlock()
		if err != nil {
			return buf, err
		}
		if _, err := f.ReadAt(buf, int64(p.at)); err != nil {
			return buf, err
		}
	}
	if sum(buf) != p.sum {
		return buf, ErrDamaged
	}
	return buf, nil
}
