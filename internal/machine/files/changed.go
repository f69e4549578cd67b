package files

import (
	"context"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// changed is what differs from a commit. While git's index is the same, git has to be asked
// again only about directories in which the status of a file differs.
type changed struct {
	base  string // a commit
	index indexState
	rules digest.Digest            // the statuses of the files with git's attributes; zero: unknown
	dirs  map[string]digest.Digest // by directory: the statuses of the files directly in it; zero: unknown
	paths []string                 // what differs, sorted
}

var changedFormat = statefile.Register(statefile.Format[changed]{
	Name: "changed", Version: 1,
	Encode: func(w *statefile.Writer, x changed) {
		w.Text(x.base)
		x.index.write(w)
		w.Digest(x.rules)
		writeTexts(w, x.paths)
		for dir, d := range x.dirs {
			w.Text(dir)
			w.Digest(d)
		}
	},
	Decode: func(r *statefile.Reader) changed {
		x := changed{r.Text(), readIndexState(r), r.Digest(), map[string]digest.Digest{}, readTexts(r)}
		for r.More() {
			dir := r.Text()
			x.dirs[dir] = r.Digest()
		}
		return x
	},
})

// Changed returns every path that differs between a commit and the current files, as
// [git.Repo.Changes] does. What is known of the last time is used again, if the files are being
// looked at since [Checkout.Ahead].
func (c *Checkout) Changed(ctx context.Context, base string) ([]string, error) {
	c.mu.Lock()
	look, taken := c.early, c.earlyAt
	c.mu.Unlock()
	index, known := c.indexState()
	if look == nil || !known {
		return c.Git.Changes(ctx, base)
	}
	last, ok := changedFormat.Load(c.stateFile("changed"))
	if !ok || last.base != base || last.index != index {
		last = changed{base: base, index: index}
	}
	now, err := c.changedSince(ctx, last, taken, look)
	if err != nil {
		return nil, err
	}
	again, known := c.indexState()
	if known && again == index && now.dirs != nil && index.settledBefore(time.Unix(0, taken)) && !now.equals(last) {
		_ = changedFormat.Save(c.stateFile("changed"), now)
	}
	return now.paths, nil
}

func (x changed) equals(y changed) bool {
	return x.rules == y.rules && maps.Equal(x.dirs, y.dirs) && slices.Equal(x.paths, y.paths)
}

// mostChanged is the largest number of directories that git is asked about one by one.
const mostChanged = 100

// changedSince finds what differs now, given what differed at the last time.
func (c *Checkout) changedSince(ctx context.Context, last changed, taken int64, look func() ([]found, error)) (changed, error) {
	if last.dirs == nil {
		return c.changedInAll(ctx, last, taken, look)
	}
	list, err := look()
	if err != nil {
		return changed{}, err
	}
	now := last
	now.dirs, now.rules = (&Survey{c: c, list: list, taken: taken}).directories()
	different := differing(last.dirs, now.dirs)
	if c.hasSubmodules() || now.rules.IsZero() || now.rules != last.rules || len(different) > mostChanged {
		return c.changedInAll(ctx, last, taken, look)
	}
	if len(different) == 0 {
		return now, nil
	}
	paths, err := c.Git.ChangesIn(ctx, last.base, slices.Sorted(maps.Keys(different)))
	for _, p := range last.paths {
		if !different[path.Dir(p)] {
			paths = append(paths, p)
		}
	}
	slices.Sort(paths)
	now.paths = slices.Compact(paths)
	return now, err
}

// changedInAll asks git about all files that it tracks, while the files are looked at. With
// submodules it remembers nothing.
func (c *Checkout) changedInAll(ctx context.Context, last changed, taken int64, look func() ([]found, error)) (changed, error) {
	var tracked, others []string
	now := changed{base: last.base, index: last.index}
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) { tracked, err = c.Git.TrackedChanges(gctx, last.base); return err })
	g.Go(func() error {
		list, err := look()
		if err != nil {
			return err
		}
		if c.hasSubmodules() { // whose files git does not track here; what differs in them shows elsewhere
			others, err = c.Git.Untracked(gctx)
			return err
		}
		now.dirs, now.rules = (&Survey{c: c, list: list, taken: taken}).directories()
		others, err = c.untracked(gctx, list)
		return err
	})
	if err := g.Wait(); err != nil {
		return changed{}, err
	}
	now.paths = append(tracked, others...)
	slices.Sort(now.paths)
	now.paths = slices.Compact(now.paths)
	return now, nil
}

// untracked returns the files of a list that git does not track.
func (c *Checkout) untracked(ctx context.Context, list []found) (out []string, err error) {
	tracked, err := c.trackedFiles(ctx)
	for _, f := range list {
		for len(tracked) > 0 && tracked[0] < f.path {
			tracked = tracked[1:]
		}
		if len(tracked) == 0 || tracked[0] != f.path {
			out = append(out, f.path)
		}
	}
	return out, err
}

// differing returns the directories with other statuses than before, or with statuses that are not
// settled.
func differing(before, now map[string]digest.Digest) map[string]bool {
	out := map[string]bool{}
	for dir, d := range now {
		if last, ok := before[dir]; !ok || d != last || d.IsZero() {
			out[dir] = true
		}
	}
	for dir := range before {
		if _, ok := now[dir]; !ok {
			out[dir] = true
		}
	}
	return out
}

// directories returns the sums of the statuses of the files that are directly in each directory,
// and that of the files with git's attributes; zero if they are not settled.
func (v *Survey) directories() (sums map[string]digest.Digest, rules digest.Digest) {
	parts := map[string][]run{}
	attributes := v.begin()
	for r, dir := range v.neighbours(0, len(v.list)) {
		parts[dir] = append(parts[dir], r)
		for _, f := range v.list[r.from:r.to] {
			if strings.HasSuffix(f.path, ".gitattributes") {
				attributes.add([]found{f})
			}
		}
	}
	dirs := slices.Collect(maps.Keys(parts))
	of := make([]partSum, len(dirs))
	inChunks(context.Background(), len(dirs), func(i int) {
		sum := v.begin()
		for _, r := range parts[dirs[i]] {
			sum.add(v.list[r.from:r.to])
		}
		of[i] = sum.end()
	})
	sums = make(map[string]digest.Digest, len(dirs))
	for i, dir := range dirs {
		sums[dir] = of[i].known()
	}
	return sums, attributes.end().known()
}
