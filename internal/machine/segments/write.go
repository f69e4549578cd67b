package segments

import (
	"archive/tar"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/machine/lock"
)

const (
	// Largest is the number of bytes of the largest blob that a segment takes.
	Largest = 1 << 20
	// full is the size at which a segment takes no more blobs.
	full = 128 << 20
	// much is how many bytes wait at most before they are written.
	much = 1 << 20
	// soon is how long they wait at most.
	soon  = 200 * time.Millisecond
	block = 512 // bytes of a header; contents are padded to a multiple of it
)

// writer appends to a segment that no other process appends to.
type writer struct {
	id      uint64
	f       *os.File
	unlock  func()
	written int64  // bytes of the segment that are in its file
	pending []byte // what follows
	rows    []row  // of blobs that other processes cannot see yet
	timer   *time.Timer
}

// Add adds a blob unless this process knows that there is one: two processes that add the same
// one at the same time cost room, and asking the system each time would cost more. This process
// can read it at once; others can after [Set.Flush], or a moment later.
func (s *Set) Add(d digest.Digest, text []byte) error {
	if len(text) > Largest {
		return fmt.Errorf("a blob of %d bytes is too large for a segment", len(text))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.index.places[d]; ok {
		return nil
	}
	return s.add(d, text, s.Now())
}

func (s *Set) add(d digest.Digest, text []byte, arrived time.Time) error {
	w := s.writes
	if w != nil && w.written+int64(len(w.pending)) >= full {
		if err := s.closeWriter(); err != nil {
			return err
		}
		w = nil
	}
	if w == nil {
		var err error
		if w, err = s.newWriter(); err != nil {
			return err
		}
		s.writes = w
	}
	before := len(w.pending)
	w.pending = pack.AppendMember(w.pending, d, text, arrived)
	p := place{w.id, w.written + int64(before) + block, uint32(len(text)), uint32(min(arrived.Unix(), math.MaxUint32))}
	w.rows = append(w.rows, row{digest: d, place: p})
	s.index.places[d] = p
	if len(w.pending) >= much {
		if err := s.flush(); err != nil {
			delete(s.index.places, d)
			w.rows = w.rows[:len(w.rows)-1]
			if len(w.pending) > 0 {
				w.pending = w.pending[:before]
			}
			return err
		}
		return nil
	}
	if w.timer == nil {
		w.timer = time.AfterFunc(soon, func() { _ = s.Flush() }) // an error comes back with the next flush
	}
	return nil
}

// Flush writes what was added, so that other processes can see it.
func (s *Set) Flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.flush()
}

func (s *Set) flush() error {
	w := s.writes
	if w == nil || len(w.rows) == 0 {
		return nil
	}
	if w.timer != nil {
		w.timer.Stop()
		w.timer = nil
	}
	if len(w.pending) > 0 {
		// After an error the same bytes are written again to the same place.
		if _, err := w.f.WriteAt(w.pending, w.written); err != nil {
			return err
		}
		w.written += int64(len(w.pending))
		w.pending = w.pending[:0]
	}
	if err := s.index.append(w.rows); err != nil {
		return err
	}
	w.rows = w.rows[:0]
	return nil
}

func (s *Set) closeWriter() error {
	if err := s.flush(); err != nil {
		return err
	}
	w := s.writes
	s.writes = nil
	err := w.f.Close()
	w.unlock()
	return err
}

// Close writes what was added, and lets other processes append to the segment.
func (s *Set) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.writes == nil {
		return nil
	}
	return s.closeWriter()
}

// newWriter takes a segment that is not full and that nobody else appends to, or else begins
// one.
func (s *Set) newWriter() (*writer, error) {
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		return nil, err
	}
	s.refresh()
	list, err := s.list()
	if err != nil {
		return nil, err
	}
	for _, f := range list {
		if f.size >= full {
			continue
		}
		if w := s.take(f.id); w != nil {
			return w, nil
		}
	}
	for {
		var b [8]byte
		_, _ = rand.Read(b[:])
		id := binary.LittleEndian.Uint64(b[:])
		if id == 0 {
			continue
		}
		unlock, ok, err := lock.Try(s.file(id) + ".lock")
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		f, err := os.OpenFile(s.file(id), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			unlock()
			return nil, err
		}
		return &writer{id: id, f: f, unlock: unlock}, nil
	}
}

// take opens a segment for appending, if it is free and ends with its last blob. Otherwise
// somebody was killed while appending: what follows is not worth the doubt.
func (s *Set) take(id uint64) *writer {
	unlock, ok, err := lock.Try(s.file(id) + ".lock")
	if err != nil || !ok {
		return nil
	}
	s.refresh()
	end := int64(0)
	for _, p := range s.index.places {
		if p.segment == id {
			end = max(end, p.at+padded(int64(p.size)))
		}
	}
	f, err := os.OpenFile(s.file(id), os.O_RDWR, 0o644)
	if err == nil {
		if info, serr := f.Stat(); serr == nil && end > 0 && info.Size() == end {
			return &writer{id: id, f: f, unlock: unlock, written: end}
		}
		f.Close()
	}
	unlock()
	return nil
}

func padded(n int64) int64 { return (n + block - 1) / block * block }

// scan returns the blobs in a segment, up to the first member that is not whole.
func (s *Set) scan(id uint64) (rows []row, err error) {
	f, err := os.Open(s.file(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	count := &counter{r: f}
	members := tar.NewReader(count)
	for {
		h, err := members.Next()
		if err != nil { // the end, or what somebody left unfinished
			return rows, nil
		}
		at := count.n
		d, err := digest.Parse(h.Name)
		if err != nil || h.Size > Largest {
			return rows, nil
		}
		sum := digest.New()
		if n, err := io.Copy(sum, members); err != nil || n != h.Size {
			return rows, nil
		}
		if digest.From(sum) == d {
			rows = append(rows, row{digest: d, place: place{id, at, uint32(h.Size), uint32(max(0, h.ModTime.Unix()))}})
		}
	}
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
