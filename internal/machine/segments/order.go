package segments

import (
	"bytes"
	"cmp"
	"iter"
	"slices"
)

// inOrder returns the rows of the index, in the order in which segments contain the blobs; with an
// error, those that can be read. The caller holds the lock.
func (s *Set) inOrder() ([]row, error) {
	rows, err := s.index.rows()
	slices.SortFunc(rows, func(a, b row) int {
		return cmp.Or(cmp.Compare(a.segment, b.segment), cmp.Compare(a.at, b.at), bytes.Compare(a.digest[:], b.digest[:]))
	})
	return rows, err
}

// together divides rows that are in order into those of blobs that are stored together: one that
// is in no frame, or all of a frame.
func together(rows []row) iter.Seq[[]row] {
	return func(yield func([]row) bool) {
		for len(rows) > 0 {
			n, first := 1, rows[0]
			for n < len(rows) && first.frame > 0 && rows[n].segment == first.segment && rows[n].at == first.at {
				n++
			}
			if !yield(rows[:n]) {
				return
			}
			rows = rows[n:]
		}
	}
}
