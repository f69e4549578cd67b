// Package outputs keeps, restores and deletes the outputs of tasks in a checkout, and what it
// displaces or sets aside for that, below .grayloft. No other package writes or deletes them.
package outputs

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/beneath"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/store"
)

// Set reads, writes and deletes the outputs of one task.
type Set struct {
	State  *checkout.State
	Files  *files.Checkout
	Store  *store.Store
	Task   *graph.Task
	Run    string       // id of the run, for the directory of displaced files
	Report func(string) // receives a sentence for the person
	Tree   string       // where the task ran, if not in the checkout
}

// Now returns a listing of the current files, so that [Set.Clear] treats
// them as the task's own. What a listing cannot name is left out.
func (o *Set) Now() listing.List {
	found, _, _ := o.search(o.Task.Writes)
	var out listing.List
	for _, f := range found {
		if listing.CheckPath(f.Path) != nil {
			continue
		}
		if f.Kind == listing.EmptyDir {
			out = append(out, f)
		} else if row, err := o.Files.Memory.Row(o.fromRoot(f.Path)); err == nil {
			row.Path = f.Path
			out = append(out, row)
		}
	}
	return out
}

// open opens the project's directory. Everything below it is reached through
// this descriptor, so a task that replaces a directory by a link cannot make the
// client read or write elsewhere. Nil means that there is no such directory.
func (o *Set) open() (*os.Root, error) {
	base, err := beneath.OpenRoot(o.root(), o.Task.Project.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return base, err
}

func (o *Set) root() string {
	if o.Tree != "" {
		return o.Tree
	}
	return o.State.Root
}

func (o *Set) fromRoot(rel string) string { return path.Join(o.Task.Project.Dir, rel) }

// reachable tells whether the path to a file in the project has only
// directories: patterns never go through links.
func reachable(base *os.Root, rel string) bool {
	for d := path.Dir(rel); d != "."; d = path.Dir(d) {
		info, err := base.Lstat(d)
		if err != nil || !info.IsDir() {
			return false
		}
	}
	return true
}

// Right tells whether the disk contains exactly what a listing says. Files that
// git tracks and that are not in the listing are ignored.
func (o *Set) Right(ctx context.Context, want listing.List) (bool, error) {
	found, err := o.Found()
	if errors.Is(err, errSpecial) || errors.Is(err, beneath.ErrNoDirectory) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if len(found) < len(want) {
		return false, nil
	}
	wanted := make(map[string]listing.Row, len(want))
	for _, r := range want {
		wanted[r.Path] = r
	}
	var extra []string
	pairs := make([]pair, 0, len(want))
	for _, f := range found {
		r, ok := wanted[f.Path]
		if !ok {
			extra = append(extra, f.Path)
			continue
		}
		pairs = append(pairs, pair{r, f.Kind})
		delete(wanted, f.Path)
	}
	if len(wanted) > 0 {
		return false, nil
	}
	if same, err := o.areSame(pairs); err != nil || !same {
		return false, err
	}
	if len(extra) == 0 {
		return true, nil
	}
	tracked, err := o.tracked(ctx)
	if err != nil {
		return false, err
	}
	return !slices.ContainsFunc(extra, func(p string) bool { return !tracked[p] }), nil
}

// Stamps adds the names, kinds and statuses of the outputs to b, and tells whether all of them are
// settled as of a moment in nanoseconds since 1970.
func (o *Set) Stamps(b []byte, taken int64) (out []byte, settled bool, err error) {
	found, err := o.Found()
	if err != nil {
		return b, false, err
	}
	paths := make([]string, len(found))
	for i, f := range found {
		paths[i] = f.Path
		if o.Task.Project.Dir != "." {
			paths[i] = o.Task.Project.Dir + "/" + f.Path
		}
		b = append(b, byte(f.Kind))
	}
	return o.Files.Stamps(b, paths, taken)
}

// pair is a wanted row, and the kind of what was found in its place.
type pair struct {
	row  listing.Row
	kind listing.Kind
}

// errDiffers ends a comparison.
var errDiffers = errors.New("it differs")

// areSame compares several at a time: after a run, their contents have to be read.
func (o *Set) areSame(pairs []pair) (bool, error) {
	err := inParallel(len(pairs)/together+1, func(i int) error {
		for _, p := range pairs[i*together : min((i+1)*together, len(pairs))] {
			if same, err := o.same(p.row, p.kind); err != nil {
				return err
			} else if !same {
				return errDiffers
			}
		}
		return nil
	})
	if errors.Is(err, errDiffers) {
		return false, nil
	}
	return err == nil, err
}

func (o *Set) same(r listing.Row, kind listing.Kind) (bool, error) {
	if r.Kind == listing.EmptyDir || kind == listing.EmptyDir {
		return r.Kind == kind, nil
	}
	have, err := o.Files.Memory.Row(o.fromRoot(r.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	have.Path = r.Path
	return have == r, err
}

func (o *Set) tracked(ctx context.Context) (map[string]bool, error) {
	var below []string
	for _, w := range o.Task.Writes {
		start := o.fromRoot(w.LiteralStart())
		if start == "." {
			below = nil
			break
		}
		below = append(below, start)
	}
	list, err := o.Files.Git.Tracked(ctx, below...)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, p := range list {
		if rel, ok := strings.CutPrefix(p, o.fromRoot("")+"/"); ok || o.Task.Project.Dir == "." {
			out[rel] = true
		}
	}
	return out, nil
}
