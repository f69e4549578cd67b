//go:build linux || darwin

package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// amendment looks again at the directories of a roster in which something was added, removed or
// replaced, as an editor does that saves a file under another name first, and at directories that are
// new. The rules about ignored files are the same, so what they said of a path still holds.
type amendment struct {
	c       *Checkout
	r       *roster
	ignored *ignores
	tracked func() (sortedPaths, error)
	gone    map[string]bool // directories of the roster
	entered []rosterDir     // new directories
	seen    int             // entries of these
}

// errWalk says that the whole checkout has to be walked.
var errWalk = errors.New("the rules about ignored files or the repositories inside changed, or more than is looked at again")

// mostEntered is how many entries of new directories are looked at before the checkout is walked.
const mostEntered = 20_000

// amend returns the files of the roster, given those of the directories without changes, and
// changes the roster accordingly.
func (a *amendment) amend(ctx context.Context, list []found, changed []int) ([]found, bool) {
	list = slices.DeleteFunc(list, func(f found) bool { return f.path == "" })
	a.tracked = sync.OnceValues(func() (sortedPaths, error) { return a.c.trackedFiles(ctx) })
	a.gone = map[string]bool{}
	var fresh, open []found
	for _, i := range changed {
		counted, unknown, err := a.look(&a.r.dirs[i])
		if err != nil {
			return nil, false
		}
		fresh, open = append(fresh, counted...), append(open, unknown...)
	}
	for len(open) > 0 {
		counted, dirs, err := a.decide(ctx, open)
		if err != nil {
			return nil, false
		}
		fresh, open = append(fresh, counted...), nil
		for _, d := range dirs {
			unknown, err := a.enter(d.path)
			if err != nil {
				return nil, false
			}
			open = append(open, unknown...)
		}
	}
	slices.SortFunc(fresh, byPath)
	list = merged(list, fresh)
	a.r.dirs = append(slices.DeleteFunc(a.r.dirs, func(d rosterDir) bool { return a.gone[d.path] }), a.entered...)
	slices.SortFunc(a.r.dirs, func(x, y rosterDir) int { return strings.Compare(x.path, y.path) })
	return list, a.r.place(list)
}

// look reads a directory of the roster. It returns the files that counted before, and other files and
// directories.
func (a *amendment) look(d *rosterDir) (counted, unknown []found, err error) {
	full := filepath.Join(a.c.Root, filepath.FromSlash(d.path))
	before, err := a.status(d.path)
	if errors.Is(err, fs.ErrNotExist) && d.path != "." {
		if slices.ContainsFunc(a.r.links, func(l string) bool { return strings.HasPrefix(l, d.path+"/") }) {
			return nil, nil, errWalk
		}
		a.gone[d.path] = true
		return nil, nil, nil
	}
	if err != nil || !(found{"", before}).dir() {
		return nil, nil, errWalk
	}
	entries, err := os.ReadDir(full)
	if err != nil {
		return nil, nil, errWalk
	}
	for _, e := range entries {
		p := path.Join(d.path, e.Name())
		known := d.has(e.Name())
		switch _, was := a.r.directory(p); {
		case e.IsDir() && (was || a.isApart(p)):
			continue
		case was, !known && decidesMore(e.Name()):
			return nil, nil, errWalk
		}
		st, err := a.status(p)
		switch {
		case errors.Is(err, fs.ErrNotExist): // deleted meanwhile
		case err != nil || (found{p, st}).dir() != e.IsDir():
			return nil, nil, errWalk
		case known && !e.IsDir():
			counted = append(counted, found{p, st})
		default:
			unknown = append(unknown, found{p, st})
		}
	}
	d.st = before
	return counted, unknown, nil
}

// enter reads a new directory.
func (a *amendment) enter(dir string) (unknown []found, err error) {
	d := rosterDir{path: dir}
	_, unknown, err = a.look(&d)
	if a.seen += len(unknown); err != nil || a.gone[dir] || a.seen > mostEntered {
		return nil, errWalk
	}
	a.entered = append(a.entered, d)
	return unknown, nil
}

// decidesMore tells whether a file or directory of that name decides which others count.
func decidesMore(name string) bool { return name == ".gitignore" || name == ".git" }

// status takes the status of a path.
func (a *amendment) status(p string) (stamp, error) {
	return statusOf(filepath.Join(a.c.Root, filepath.FromSlash(p)))
}

// isApart tells whether a directory has no files of this repository.
func (a *amendment) isApart(p string) bool {
	return p == ".git" || p == ".grayloft" || slices.Contains(a.r.links, p) || slices.Contains(a.r.repos, p)
}

// decide returns those of some files that count: git tracks them, or does not ignore them. It also
// returns the directories among them that may have files that count.
func (a *amendment) decide(ctx context.Context, list []found) (counted, dirs []found, err error) {
	tracked, err := a.tracked()
	if err != nil {
		return nil, nil, err
	}
	var others []found
	for _, f := range list {
		_, is := slices.BinarySearch(tracked, f.path)
		switch {
		case is && f.dir(): // a submodule, or in place of a file
			return nil, nil, errWalk
		case is:
			counted = append(counted, f)
		case f.dir() && tracked.meets(f.path):
			dirs = append(dirs, f)
		default:
			others = append(others, f)
		}
	}
	if err := a.ignored.ask(ctx, a.c, others); err != nil {
		return nil, nil, err
	}
	if err := a.ignored.save(a.c.stateFile("ignored")); err != nil {
		return nil, nil, err
	}
	for _, f := range others {
		switch {
		case a.ignored.answers[f.ruled()]:
		case f.dir():
			dirs = append(dirs, f)
		default:
			counted = append(counted, f)
		}
	}
	return counted, dirs, nil
}

// merged returns the files of two sorted lists, sorted.
func merged(a, b []found) []found {
	if len(b) == 0 {
		return a
	}
	out := make([]found, 0, len(a)+len(b))
	for _, f := range b {
		n, _ := slices.BinarySearchFunc(a, f, byPath)
		out = append(append(out, a[:n]...), f)
		a = a[n:]
	}
	return append(out, a...)
}
