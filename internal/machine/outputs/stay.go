package outputs

import (
	"errors"
	"fmt"
	"os"
	"path"
	"slices"

	"grayloft.example/grayloft/internal/core/listing"
)

// errMoved says that a file is not the one that was compared.
var errMoved = errors.New("it changed while the outputs were restored: run again")

// compare finds the rows that the disk already contains. A file that is in every way as a
// restored one would be stays, unless another is staged: it is neither deleted nor written again.
// Links, and files with another mode or a second name, are right and yet made again.
func (r *Restoration) compare() (right listing.List, stays map[string]bool, err error) {
	base, err := r.o.open()
	if base == nil || err != nil {
		return nil, nil, err
	}
	defer base.Close()
	isRight, dirs := make([]bool, len(r.list)), byDirectory(r.list)
	_ = inParallel(len(dirs), func(n int) error {
		r.compareIn(base, dirs[n], isRight) // what cannot be read is not right
		return nil
	})
	stays = map[string]bool{}
	for i, row := range r.list {
		if isRight[i] {
			right = append(right, row)
		}
		if r.stays[i] != (status{}) {
			stays[row.Path] = true
		}
	}
	return right, stays, nil
}

// compareIn compares rows of one directory with what it contains.
func (r *Restoration) compareIn(base *os.Root, part span, isRight []bool) {
	dir := dirOf(r.list[part.from].Path)
	if !reachable(base, path.Join(dir, "x")) {
		return
	}
	in, err := base.Open(dir)
	if err != nil {
		return
	}
	defer in.Close()
	for i := part.from; i < part.to; i++ {
		row := r.list[i]
		if row.Kind == listing.EmptyDir {
			continue
		}
		st, ok := statusAt(in, path.Base(row.Path)) // before its contents are compared
		isRight[i] = r.o.unchanged(row, row.Kind)
		if ok && isRight[i] && !r.staged[i] && row.Kind != listing.Link && st.isAsRestored(row.Kind.Mode()) {
			r.stays[i] = st
		}
	}
}

// touch gives the files that stay the present time, which every restored file gets.
func (r *Restoration) touch() error {
	if !slices.ContainsFunc(r.stays, func(st status) bool { return st != status{} }) {
		return nil
	}
	base, err := r.o.open()
	if base == nil || err != nil {
		return err
	}
	defer base.Close()
	dirs := byDirectory(r.list)
	return inParallel(len(dirs), func(n int) error { return r.touchIn(base, dirs[n]) })
}

// touchIn touches files of one directory.
func (r *Restoration) touchIn(base *os.Root, part span) error {
	if !slices.ContainsFunc(r.stays[part.from:part.to], func(st status) bool { return st != status{} }) {
		return nil
	}
	failed := func(i int, err error) error { return fmt.Errorf("restoring %s: %w", r.o.fromRoot(r.list[i].Path), err) }
	in, err := base.Open(dirOf(r.list[part.from].Path))
	if err != nil {
		return failed(part.from, err)
	}
	defer in.Close()
	for i := part.from; i < part.to; i++ {
		if r.stays[i] == (status{}) {
			continue
		}
		name := path.Base(r.list[i].Path)
		if st, ok := statusAt(in, name); !ok || st != r.stays[i] {
			return failed(i, errMoved)
		}
		if err := touchAt(in, name); err != nil {
			return failed(i, err)
		}
	}
	return nil
}
