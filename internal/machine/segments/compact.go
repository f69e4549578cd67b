package segments

import (
	"context"
	"errors"
	"os"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
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
	switch _, err := s.index.refresh(); {
	case errors.Is(err, errNoIndex): // nothing was added yet, though somebody may have begun a segment
		return nil
	case err != nil:
		return err
	}
	all, err := s.inOrder()
	if err != nil || len(list)+len(all) == 0 {
		return err
	}
	dropped := map[digest.Digest]place{}
	left := map[uint64]int64{}
	for rows := range together(all) {
		isLeft := false // a frame is, as a whole, as long as it contains a blob that is left
		for _, r := range rows {
			if gone[r.digest] {
				dropped[r.digest] = r.place
			} else {
				isLeft = true
			}
		}
		if isLeft {
			left[rows[0].segment] += block + padded(rows[0].stored())
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
	all, err := s.inOrder()
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(all, func(r row) bool {
		_, out := dropped[r.digest]
		return out || worn[r.segment] == nil
	})
	var opened pack.Opened
	for rows := range together(left) {
		if err := ctx.Err(); err != nil {
			return err
		}
		for _, p := range s.parts(rows, &opened) {
			p.sum = sum(p.stored)
			if err := s.add(p, time.Unix(int64(rows[0].time), 0)); err != nil {
				return err
			}
		}
		if s.writes != nil && len(s.writes.pending) >= much {
			if err := s.flush(); err != nil {
				return err
			}
		}
	}
	return s.flush()
}

// parts returns what is to be stored of blobs in one place: their frame, if at least half of its
// contents is theirs.
func (s *Set) parts(rows []row, opened *pack.Opened) (out []part) {
	at := rows[0].place
	f, err := s.open(at.segment)
	if err != nil {
		return nil
	}
	stored := make([]byte, at.stored())
	if _, err := f.ReadAt(stored, int64(at.at)); err != nil {
		return nil
	}
	list := []pack.Blob{{Digest: rows[0].digest, Text: stored}}
	all := int64(0)
	if at.frame > 0 {
		if opened.Open(stored, largestFrame) != nil {
			return nil
		}
		list = slices.Clone(opened.Blobs())
		for _, b := range list {
			all += pack.Plain(int64(len(b.Text)))
		}
	}
	list = slices.DeleteFunc(list, func(b pack.Blob) bool {
		isLeft := func(r row) bool { return r.digest == b.Digest }
		return !slices.ContainsFunc(rows, isLeft) || digest.Of(b.Text) != b.Digest
	})
	mine := int64(0)
	for i, b := range list {
		mine += pack.Plain(int64(len(b.Text)))
		out = append(out, part{blobs: list[i : i+1], stored: b.Text})
	}
	if at.frame > 0 && len(list) > 0 && 2*mine >= all {
		return []part{{blobs: list, stored: stored, framed: true}}
	}
	return out
}

// remaining returns the rows of the new index. Nobody else can add any meanwhile.
func (s *Set) remaining(worn map[uint64]func(), dropped map[digest.Digest]place) ([]row, error) {
	if _, err := s.index.refresh(); err != nil {
		return nil, err // a place that is not known is a blob that is lost
	}
	rows, err := s.index.rows()
	return slices.DeleteFunc(rows, func(r row) bool {
		was, out := dropped[r.digest]
		return out && was == r.place || worn[r.segment] != nil
	}), err
}

// Check reads every blob and compares it with its digest. Those that are damaged are taken out
// of the index and returned.
func (s *Set) Check(ctx context.Context, seen func()) (damaged []digest.Digest, err error) {
	buf := make([]byte, Largest)
	s.mu.Lock()
	s.refresh()
	rows, err := s.inOrder()
	s.mu.Unlock()
	if err != nil {
		return nil, err
	}
	from := s.Reader()
	for group := range together(rows) {
		for i, b := range group {
			if err := ctx.Err(); err != nil {
				return damaged, err
			}
			text, err := from.Read(b.digest, buf)
			if err == nil && digest.Of(text) != b.digest {
				s.Drop(b.digest)
				err = ErrDamaged
			}
			switch {
			case errors.Is(err, ErrDamaged) && b.frame > 0: // and with it the frame
				for _, lost := range group[i:] {
					damaged = append(damaged, lost.digest)
				}
			case errors.Is(err, ErrDamaged):
				damaged = append(damaged, b.digest)
			case err != nil && !errors.Is(err, os.ErrNotExist):
				return damaged, err
			}
			seen()
		}
	}
	return damaged, nil
}
