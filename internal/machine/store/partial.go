package store

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
	"grayloft.example/grayloft/internal/protocol"
)

// partial is a large blob that arrives in pieces, in any order. The pieces
// outlast the process: the file itself, and next to it a byte for each piece,
// "1" for one that arrived. Neither is trusted: the whole blob is verified at
// the end.
type partial struct {
	s      *Store
	d      digest.Digest
	piece  int64
	file   *os.File
	marks  *os.File
	have   []byte
	unlock func()
}

// Partial opens a blob of that size that arrives in pieces, and finds pieces
// that arrived earlier. It returns [protocol.ErrBusy] while another process has
// it.
func (s *Store) Partial(d digest.Digest, size, piece int64) (protocol.Pieces, error) {
	if size < 0 || size > protocol.MaxBlob || piece < 1 {
		return nil, fmt.Errorf("a blob of %d bytes cannot be stored", size)
	}
	base := filepath.Join(s.dir, "partial", d.String())
	if err := os.MkdirAll(filepath.Dir(base), 0o755); err != nil {
		return nil, err
	}
	unlock, ok, err := lock.Try(base + ".lock")
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, protocol.ErrBusy
	}
	p := &partial{s: s, d: d, piece: piece, unlock: unlock, have: make([]byte, (size+piece-1)/piece)}
	if p.file, err = os.OpenFile(base, os.O_RDWR|os.O_CREATE, 0o644); err != nil {
		unlock()
		return nil, err
	}
	if p.marks, err = os.OpenFile(base+".marks", os.O_RDWR|os.O_CREATE, 0o644); err != nil {
		return nil, errors.Join(err, p.file.Close(), func() error { unlock(); return nil }())
	}
	if info, err := p.file.Stat(); err != nil || info.Size() != size {
		p.forget(size)
	} else {
		_, _ = p.marks.ReadAt(p.have, 0) // an unreadable piece has not arrived
	}
	return p, nil
}

// forget starts again from nothing.
func (p *partial) forget(size int64) {
	clear(p.have)
	_ = p.marks.Truncate(0)
	_ = p.file.Truncate(0)
	_ = p.file.Truncate(size)
}

// Missing implements [protocol.Pieces].
func (p *partial) Missing() []int {
	var out []int
	for i, c := range p.have {
		if c != '1' {
			out = append(out, i)
		}
	}
	return out
}

// Put implements [protocol.Pieces].
func (p *partial) Put(i int, data []byte) error {
	if _, err := p.file.WriteAt(data, int64(i)*p.piece); err != nil {
		return err
	}
	_, err := p.marks.WriteAt([]byte{'1'}, int64(i))
	return err
}

// Keep implements [protocol.Pieces].
func (p *partial) Keep() error {
	h := digest.New()
	if _, err := p.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if _, err := io.Copy(h, p.file); err != nil {
		return err
	}
	if digest.From(h) != p.d {
		p.remove()
		return fmt.Errorf("the contents are not those of blob %s", p.d.Short())
	}
	to := p.s.blob(p.d)
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if err := os.Rename(p.file.Name(), to); err != nil {
		return err
	}
	os.Remove(p.marks.Name())
	return nil
}

func (p *partial) remove() {
	os.Remove(p.file.Name())
	os.Remove(p.marks.Name())
}

// Close implements [protocol.Pieces]. The lock file stays: another process may
// already have opened it.
func (p *partial) Close() {
	p.file.Close()
	p.marks.Close()
	p.unlock()
}
