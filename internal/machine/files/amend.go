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
	"sync"
)

// amendment looks again at the directories of a roster in which something was added, removed or
// replaced, as an editor does that saves a file under another name first. The rules about ignored
// files are the same, so what they said of a path still holds.
type amendment struct {
	c       *Checkout
	r       *roster
	ignored *ignores
	tracked func() (sortedPaths, error)
}

// errWalk says that the whole checkout has to be walked.
var errWalk = errors.New("a directory came or went, or the rules about ignored files changed")

// amend returns the files of the roster, given those of the directories without changes, and
// changes the roster accordingly.
func (a *amendment) amend(ctx context.Context, list []found, changed []int) ([]found, bool) {
	list = slices.DeleteFunc(list, func(f found) bool { return f.path == "" })
	a.tracked = sync.OnceValues(func() (sortedPaths, error) { return a.c.trackedFiles(ctx) })
	var fresh, unknown []found
	for _, i := range changed {
		counted, open, err := a.look(&a.r.dirs[i])
		if err != nil {
			return nil, false
		}
		fresh, unknown = append(fresh, counted...), append(unknown, open...)
	}
	unknown, err := a.decide(ctx, unknown)
	if err != nil {
		return nil, false
	}
	fresh = append(fresh, unknown...)
	slices.SortFunc(fresh, byPath)
	list = merged(list, fresh)
	return list, a.r.place(list)
}

// look reads a directory. It returns the files that counted before, and other files and directories.
func (a *amendment) look(d *rosterDir) (counted, unknown []found, err error) {
	full := filepath.Join(a.c.Root, filepath.FromSlash(d.path))
	info, err := os.Lstat(full)
	if err != nil || !info.IsDir() {
		return nil, nil, errWalk
	}
	before, _ := stampOf(info)
	entries, err := os.ReadDir(full)
	if err != nil {
		return nil, nil, err
	}
	for _, e := range entries {
		p := path.Join(d.path, e.Name())
		known := d.has(e.Name())
		switch _, was := a.r.directory(p); {
		case e.IsDir() && (was || a.isApart(p)):
			continue
		case was, !known && (e.Name() == ".gitignore" || e.Name() == ".git"):
			return nil, nil, errWalk
		}
		now, err := os.Lstat(filepath.Join(full, e.Name()))
		if errors.Is(err, fs.ErrNotExist) { // deleted meanwhile
			continue
		}
		st, ok := stampOf(now)
		switch {
		case err != nil || !ok || now.IsDir() != e.IsDir():
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

// isApart tells whether a directory has no files of this repository.
func (a *amendment) isApart(p string) bool {
	return p == ".git" || p == ".grayloft" || slices.Contains(a.r.links, p) || slices.Contains(a.r.repos, p)
}

// decide returns those of some files that count: git tracks them, or does not ignore them. It fails
// if a directory among them may have files that count.
func (a *amendment) decide(ctx context.Context, list []found) (counted []found, err error) {
	if len(list) == 0 {
		return nil, nil
	}
	tracked, err := a.tracked()
	if err != nil {
		return nil, err
	}
	var others []found
	for _, f := range list {
		_, is := slices.BinarySearch(tracked, f.path)
		switch {
		case f.dir() && tracked.meets(f.path):
			return nil, errWalk
		case is:
			counted = append(counted, f)
		default:
			others = append(others, f)
		}
	}
	if err := a.ignored.ask(ctx, a.c, others); err != nil {
		return nil, err
	}
	a.ignored.save(a.c.stateFile("ignored"))
	for _, f := range others {
		switch {
		case a.ignored.answers[f.ruled()]:
		case f.dir():
			return nil, errWalk
		default:
			counted = append(counted, f)
		}
	}
	return counted, nil
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
