package segments

import (
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
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
	flying  []byte // what follows and is being written, while the set's lock is free
	pending []byte // what follows that
	spare   []byte // room for the next pending ones
	rows    []row  // of blobs that other processes cannot see yet
	timer   *time.Timer
}

// size returns the bytes of the segment, with those that are not written yet.
func (w *writer) size() int64 { return w.written + int64(len(w.flying)+len(w.pending)) }

// unwritten returns what follows a position that is not in the file yet.
func (w *writer) unwritten(at int64) []byte {
	if at -= w.written; at < int64(len(w.flying)) {
		return w.flying[at:]
	}
	return w.pending[at-int64(len(w.flying)):]
}

// Add adds a blob, as [Set.AddAll] does.
func (s *Set) Add(d digest.Digest, text []byte) error {
	return s.AddAll([]pack.Blob{{Digest: d, Text: text}})
}

// AddAll adds blobs, whose digests the caller has verified, unless this process knows that there
// are such: two processes that add the same one at the same time cost room, and asking the system
// each time would cost more. This process can read them at once; others can after [Set.Flush], or
// a moment later. After an error, what was added is written with what follows, if that can be
// written. Many small blobs should be added together: goroutines that add one at a time
// spend much of their time waiting for each other.
func (s *Set) AddAll(list []pack.Blob) error {
	for _, b := range list {
		if len(b.Text) > Largest {
			return fmt.Errorf("a blob of %d bytes is too large for a segment", len(b.Text))
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if list = s.unknown(list); len(list) == 0 {
		return nil
	}
	parts := make([]part, len(list))
	for i, b := range list {
		parts[i] = part{blobs: list[i : i+1], stored: b.Text}
	}
	return s.addParts(parts)
}

// AddFrame is [Set.AddAll] for the blobs of a frame ([pack.Frames.Frame]): it is stored as it is,
// which takes less room and time than its contents.
func (s *Set) AddFrame(frame []byte, list []pack.Blob) error {
	tooLarge := func(b pack.Blob) bool { return len(b.Text) > Largest }
	if len(frame) > Largest || slices.ContainsFunc(list, tooLarge) {
		return s.AddAll(list)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.addParts([]part{{blobs: list, stored: frame, framed: true}})
}

// part is what becomes one member of a segment: a blob, or a frame with several.
type part struct {
	blobs  []pack.Blob
	stored []byte
	framed bool
	sum    uint64 // of what is stored
}

// addParts adds what is not there yet, and writes much at a time. The caller holds the lock, which
// is free meanwhile.
func (s *Set) addParts(list []part) error {
	s.mu.Unlock()
	for i := range list {
		list[i].sum = sum(list[i].stored)
	}
	s.mu.Lock()
	for w := s.writes; w != nil && w.flying != nil && len(w.pending) >= much; w = s.writes {
		s.landed.Wait() // memory is not filled faster than the disk
	}
	now := s.Now()
	for _, p := range list {
		if p.blobs = s.unknown(p.blobs); len(p.blobs) == 0 {
			continue // it came meanwhile, or twice
		}
		if err := s.add(p, now); err != nil {
			return err
		}
	}
	w := s.writes
	switch {
	case w == nil: // others added them, and closed the segment
	case len(w.pending) >= much && w.flying == nil:
		return s.fly(w)
	case w.timer == nil && len(w.rows) > 0:
		w.timer = time.AfterFunc(soon, func() { _ = s.Flush() }) // an error comes back with the next flush
	}
	return nil
}

// unknown returns the blobs that this process does not know.
func (s *Set) unknown(list []pack.Blob) []pack.Blob {
	known := func(b pack.Blob) bool { _, ok := s.index.find(b.Digest); return ok }
	if !slices.ContainsFunc(list, known) {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), known)
}

// add appends a part to what is to be written.
func (s *Set) add(p part, arrived time.Time) error {
	for w := s.writes; w != nil && w.size() >= full; w = s.writes {
		if err := s.closeWriter(); err != nil {
			return err
		}
	}
	if s.writes == nil {
		w, err := s.newWriter()
		if err != nil {
			return err
		}
		s.writes = w
	}
	w := s.writes
	at := place{segment: w.id, at: uint32(w.size() + block), time: uint32(min(arrived.Unix(), math.MaxUint32)), sum: p.sum}
	if p.framed {
		at.frame = uint32(len(p.stored))
		w.pending = pack.AppendFrame(w.pending, p.blobs[0].Digest, p.stored, arrived)
	} else {
		w.pending = pack.AppendMember(w.pending, p.blobs[0].Digest, p.stored, arrived)
	}
	for _, b := range p.blobs {
		at.size = uint32(len(b.Text))
		w.rows = append(w.rows, row{digest: b.Digest, place: at})
		s.index.set(b.Digest, at)
	}
	return nil
}

// fly writes what is pending while the lock is free, so that others can add more meanwhile.
func (s *Set) fly(w *writer) error {
	w.flying, w.pending, w.spare = w.pending, w.spare[:0], nil
	at, rows := w.written, w.rows[:len(w.rows):len(w.rows)]
	w.stopTimer()
	s.mu.Unlock()
	_, err := w.f.WriteAt(w.flying, at)
	if err == nil {
		err = s.index.append(rows)
	}
	s.mu.Lock()
	s.landed.Broadcast()
	if err != nil {
		// The same bytes are written again to the same place.
		w.flying, w.pending = nil, append(w.flying, w.pending...)
		return err
	}
	w.written += int64(len(w.flying))
	w.flying, w.spare = nil, w.flying
	w.rows = append(w.rows[:0:0], w.rows[len(rows):]...)
	return nil
}

func (w *writer) stopTimer() {
	if w.timer != nil {
		w.timer.Stop()
		w.timer = nil
	}
}

// Flush writes what was added, so that other processes can see it.
func (s *Set) Flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.flush()
}

// flush writes everything that was added. The lock is free while it waits for somebody who is
// writing, and only then.
func (s *Set) flush() error {
	for s.writes != nil && s.writes.flying != nil {
		s.landed.Wait()
	}
	w := s.writes
	if w == nil || len(w.rows) == 0 {
		return nil
	}
	w.stopTimer()
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
	if w == nil { // somebody else closed it meanwhile
		return nil
	}
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
	_, err = s.index.inSegment(id, func(_ digest.Digest, p place) { end = max(end, p.end()) })
	f, oerr := os.OpenFile(s.file(id), os.O_RDWR, 0o644)
	if err = errors.Join(err, oerr); err == nil {
		if info, serr := f.Stat(); serr == nil && end > 0 && info.Size() == end {
			return &writer{id: id, f: f, unlock: unlock, written: end}
		}
		f.Close()
	}
	unlock()
	return nil
}

func padded(n int64) int64 { return (n + block - 1) / block * block }
