package files

import (
	"context"
	"iter"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/tree"
)

// Survey is the files that tasks may read, with their status, at one moment.
type Survey struct {
	c       *Checkout
	list    []found
	taken   int64 // nanoseconds since 1970, before the first status was taken
	ignored tree.Ignored
}

// Survey takes the status of all files that tasks may read.
func (c *Checkout) Survey(ctx context.Context) (*Survey, error) {
	taken := c.now().UnixNano()
	c.mu.Lock()
	if c.early != nil {
		taken = c.earlyAt
	}
	c.mu.Unlock()
	list, ignored, err := c.everything(ctx)
	if err != nil {
		return nil, err
	}
	return &Survey{c, list, taken, ignored}, nil
}

// Ignored returns the ignored paths, from the root and sorted, at which patterns start.
func (v *Survey) Ignored() []string { return slices.Sorted(maps.Keys(v.ignored.Starts)) }

// Taken returns when the survey began, in nanoseconds since 1970.
func (v *Survey) Taken() int64 { return v.taken }

// Sums are digests of the statuses of files, by part of the tree. They are safe
// for concurrent use.
type Sums struct {
	v      *Survey
	of     map[*graph.Project]partSum
	mu     sync.Mutex
	starts map[string]partSum // by path
}

type partSum struct {
	digest  digest.Digest
	settled bool
}

// known returns the digest; zero if it is not settled.
func (x partSum) known() digest.Digest {
	if !x.settled {
		return digest.Digest{}
	}
	return x.digest
}

// Sums computes the sums of all projects' files. While a sum is equal, and was
// settled when it was first taken, the contents of its files are equal, and the
// targets of its links exist or not as before.
func (v *Survey) Sums() *Sums {
	s := &Sums{v: v, of: map[*graph.Project]partSum{}, starts: map[string]partSum{}}
	runs := map[*graph.Project][]run{}
	var projects []*graph.Project
	for _, r := range v.runs() {
		if _, ok := runs[r.of]; !ok {
			projects = append(projects, r.of)
		}
		runs[r.of] = append(runs[r.of], r)
	}
	sums := make([]partSum, len(projects))
	inChunks(context.Background(), len(projects), func(i int) {
		sum := v.begin()
		for _, r := range runs[projects[i]] {
			sum.add(v.list[r.from:r.to])
		}
		sums[i] = sum.end()
	})
	for i, p := range projects {
		s.of[p] = sums[i]
	}
	return s
}

// run is a part of the list with files of one project: from one number to before another.
type run struct {
	of       *graph.Project
	from, to int
}

// runs divides the list by projects, in its order.
func (v *Survey) runs() []run {
	const piece = 200 // files that are looked at together
	pieces := make([][]run, (len(v.list)+piece-1)/piece)
	inChunks(context.Background(), len(pieces), func(i int) {
		pieces[i] = v.runsOf(i*piece, min((i+1)*piece, len(v.list)))
	})
	return slices.Concat(pieces...)
}

// runsOf divides a part of the list. Neighbours in one directory belong to one project.
func (v *Survey) runsOf(from, end int) (out []run) {
	for r := range v.neighbours(from, end) {
		r.of = v.c.Graph.Owner(v.list[r.from].path)
		out = append(out, r)
	}
	return out
}

// neighbours divides a part of the list into files that follow each other and are directly in one
// directory, with the directory.
func (v *Survey) neighbours(from, end int) iter.Seq2[run, string] {
	return func(yield func(run, string) bool) {
		for from < end {
			dir, to := path.Dir(v.list[from].path), from+1
			for to < end && inDirectory(v.list[to].path, dir) {
				to++
			}
			if !yield(run{nil, from, to}, dir) {
				return
			}
			from = to
		}
	}
}

// inDirectory tells whether a file is directly in a directory.
func inDirectory(p, dir string) bool {
	if dir == "." {
		return !strings.Contains(p, "/")
	}
	rest, ok := strings.CutPrefix(p, dir)
	return ok && strings.LastIndexByte(rest, '/') == 0
}

// summing is the sum of a part while it is computed. What is summed is in a buffer that the next
// one uses again: together they would be a third of the memory of a run with nothing to do.
type summing struct {
	v       *Survey
	buf     *[]byte
	settled bool
}

var summed = sync.Pool{New: func() any { return new([]byte) }}

func (v *Survey) begin() summing { return summing{v, summed.Get().(*[]byte), true} }

func (s *summing) add(list []found) {
	for _, f := range list {
		var ok bool
		*s.buf, ok = s.v.add(*s.buf, f)
		s.settled = s.settled && ok
	}
}

func (s *summing) end() partSum {
	x := partSum{digest.Of(*s.buf), s.settled}
	*s.buf = (*s.buf)[:0]
	summed.Put(s.buf)
	return x
}

// add adds a file's path and status to b, and tells whether it is settled.
func (v *Survey) add(b []byte, f found) ([]byte, bool) {
	st := f.st
	if st == (stamp{}) { // it was not taken on the way
		info, err := os.Lstat(filepath.Join(v.c.Root, filepath.FromSlash(f.path)))
		if err != nil {
			return b, false
		}
		var ok bool
		if st, ok = stampOf(info); !ok {
			return b, false
		}
	}
	b = append(append(b, f.path...), 0)
	if len(v.ignored.Files) > 0 && v.ignored.Files[f.path] {
		b = append(b, 'i')
	}
	b = appendStamp(b, st)
	if st.Mode&syscall.S_IFMT == syscall.S_IFLNK {
		if info, err := os.Stat(filepath.Join(v.c.Root, filepath.FromSlash(f.path))); err == nil {
			to, _ := stampOf(info)
			b = appendStamp(append(b, 'l'), to)
		}
	}
	return b, (remembered{Stamp: st, Taken: v.taken}).safe()
}

// Project returns the sum of a project's own files.
func (s *Sums) Project(p *graph.Project) (sum digest.Digest, settled bool) {
	x, ok := s.of[p]
	return x.digest, x.settled || !ok
}

// Below returns the sum of the files that a path from the root is or contains;
// of all files for "".
func (s *Sums) Below(start string) (sum digest.Digest, settled bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x, ok := s.starts[start]; ok {
		return x.digest, x.settled
	}
	list := s.v.list
	from, to := 0, len(list)
	if start != "" && start != "." {
		at := func(p string) int {
			i, _ := slices.BinarySearchFunc(list, p, func(f found, p string) int { return strings.Compare(f.path, p) })
			return i
		}
		from, to = at(start+"/"), at(start+"0") // "0" is the byte after "/"
		if i := at(start); i < len(list) && list[i].path == start {
			from, to = i, i+1
		}
	}
	part := s.v.begin()
	part.add(list[from:to])
	x := part.end()
	s.starts[start] = x
	return x.digest, x.settled
}

// Stamps returns the statuses of paths, from the root, and whether all of them
// are settled as of a moment in nanoseconds since 1970.
func (c *Checkout) Stamps(b []byte, paths []string, taken int64) (out []byte, settled bool, err error) {
	settled = true
	for _, p := range paths {
		info, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(p)))
		if err != nil {
			return b, false, err
		}
		st, ok := stampOf(info)
		settled = settled && ok && (remembered{Stamp: st, Taken: taken}).safe()
		b = appendStamp(append(append(b, p...), 0), st)
	}
	return b, settled, nil
}
