package segments

import (
	"context"
	"errors"
	"os"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
)

// Remove takes blobs out of the index, and writes those segments again of which less than
// half is left. Other processes may read and append meanwhile: a segment that somebody
// appends to stays as it is. One compaction at a time is the caller's affair.
func (s *Set) Remove(ctx context.Context, gone map[digest.Digest]bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.flush(); err != nil {
		return err
	}
	list, err := s.list()
	if err != nil {
		return err
	}
	worn := s.lockAll(list)
	defer func() {
		for _, unlock := range worn {
			unlock()
		}
	}()
	// Whoever appended to one of them before has written its rows by now.
	s.refresh()
	if len(list)+len(s.index.places) == 0 {
		return nil
	}
	dropped := map[digest.Digest]place{}
	left := map[uint64]int64{}
	for d, p := range s.index.places {
		if gone[d] {
			dropped[d] = p
		} else {
			left[p.segment] += block + padded(int64(p.size))
		}
	}
	for _, f := range list {
		if unlock := worn[f.id]; unlock != nil && left[f.id] >= f.size/2 {
			unlock()
			delete(worn, f.id)
		}
	}
	if err := s.save(ctx, worn, dropped); err != nil {
		return err
	}
	if err := s.index.replace(func() ([]row, error) { return s.remaining(worn, dropped) }); err != nil {
		return err
	}
	for id := range worn {
		delete(s.reads, id)
		_ = os.Remove(s.file(id)) // otherwise the next one does it
		_ = os.Remove(s.file(id) + ".lock")
	}
	return nil
}

// lockAll locks the segments that nobody appends to.
func (s *Set) lockAll(list []found) map[uint64]func() {
	locks := map[uint64]func(){}
	for _, f := range list {
		if s.writes != nil && f.id == s.writes.id {
			continue
		}
		if unlock, ok, err := lock.Try(s.file(f.id) + ".lock"); err == nil && ok {
			locks[f.id] = unlock
		}
	}
	return locks
}

// save copies what is left in worn segments. What is damaged is left out.
func (s *Set) save(ctx context.Context, worn map[uint64]func(), dropped map[digest.Digest]place) error {
	for d, p := range s.index.places {
		if err := ctx.Err(); err != nil {
			return err
		}
		if _, out := dropped[d]; out || worn[p.segment] == nil {
			continue
		}
		f, err := s.open(p.segment)
		if err != nil {
			continue
		}
		text := make([]byte, p.size)
		if _, err := f.ReadAt(text, p.at); err != nil || digest.Of(text) != d {
			continue
		}
		if err := s.add(d, text, sum(text), time.Unix(int64(p.time), 0)); err != nil {
			return err
		}
		if len(s.writes.pending) >= much {
			if err := s.flush(); err != nil {
				return err
			}
		}
	}
	return s.flush()
}

// remaining returns the rows of the new index. Nobody else can add any meanwhile.
func (s *Set) remaining(worn map[uint64]func(), dropped map[digest.Digest]place) ([]row, error) {
	if _, err := s.index.refresh(); err != nil {
		return nil, err // a place that is not known is a blob that is lost
	}
	rows := make([]row, 0, len(s.index.places))
	for d, p := range s.index.places {
		if was, out := dropped[d]; out && was == p || worn[p.segment] != nil {
			continue
		}
		rows = append(rows, row{digest: d, place: p})
	}
	return rows, nil
}

// Check reads every blob and compares it with its digest. Those that are damaged are taken out
// of the index and returned.
func (s *Set) Check(ctx context.Context, seen func()) (damaged []digest.Digest, err error) {
	buf := make([]byte, Largest)
	for _, b := range s.All() {
		if err := ctx.Err(); err != nil {
			return damaged, err
		}
		text, err := s.Read(b.Digest, buf)
		switch {
		case err == nil && digest.Of(text) != b.Digest:
			s.Drop(b.Digest)
			damaged = append(damaged, b.Digest)
		case errors.Is(err, ErrDamaged):
			damaged = append(damaged, b.Digest)
		case err != nil && !errors.Is(err, os.ErrNotExist):
			return damaged, err
		}
		seen()
	}
	return damaged, nil
}
