package files

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/tree"
)

// everything returns the files that tasks may read, sorted, with their status
// if it was taken, and which of them git ignores.
func (c *Checkout) everything(ctx context.Context) ([]found, tree.Ignored, error) {
	all := c.Graph.IgnoredStarts() // before the list, which is made meanwhile
	list, err := c.surveyed(ctx)
	if err != nil {
		return nil, tree.Ignored{}, err
	}
	var starts []string
	ignored := c.ignoredPaths()
	for _, s := range all {
		if ignored.meets(s) && c.exists(s) {
			starts = append(starts, s)
		}
	}
	if starts, err = c.Git.Ignored(ctx, starts); err != nil {
		return nil, tree.Ignored{}, err
	}
	starts = append(starts, c.inOtherRepositories(all)...)
	if len(starts) == 0 {
		return list, tree.Ignored{}, nil
	}
	more, err := c.ignoredFiles(starts)
	if err != nil {
		return nil, tree.Ignored{}, err
	}
	for _, f := range list {
		delete(more.Files, f.path)
	}
	for p := range more.Files {
		list = append(list, found{path: p})
	}
	slices.SortFunc(list, byPath)
	return list, more, nil
}

func byPath(a, b found) int {
	switch {
	case a.path < b.path:
		return -1
	case a.path > b.path:
		return 1
	}
	return 0
}

// ignoredFiles returns the files at and below ignored paths at which patterns start.
func (c *Checkout) ignoredFiles(starts []string) (tree.Ignored, error) {
	out := tree.Ignored{Files: map[string]bool{}, Starts: map[string]bool{}}
	for _, s := range starts {
		out.Starts[s] = true
		more, err := c.walk(s)
		if err != nil {
			return out, err
		}
		for _, p := range more {
			out.Files[p] = true
		}
	}
	return out, nil
}

// Ahead starts to look at the checkout's files in the background, before
// anything asks for them.
func (c *Checkout) Ahead(ctx context.Context) {
	look := sync.OnceValues(func() ([]found, error) {
		list, err := c.survey(ctx)
		return c.withSubmodules(ctx, list, err)
	})
	c.early, c.earlyAt = look, c.now().UnixNano()
	go func() { _, _ = look() }() // whoever needs the files gets the error again
}

func (c *Checkout) surveyed(ctx context.Context) ([]found, error) {
	c.mu.Lock()
	early := c.early
	c.early = nil
	c.mu.Unlock()
	if early != nil {
		return early()
	}
	list, err := c.survey(ctx)
	return c.withSubmodules(ctx, list, err)
}

// inOtherRepositories returns those of some starts of patterns that are in a repository inside
// the checkout that is no submodule: its files belong to this one as little as ignored ones.
func (c *Checkout) inOtherRepositories(starts []string) (out []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range starts {
		if slices.ContainsFunc(c.repos, func(dir string) bool { return inside(s, dir) }) {
			out = append(out, s)
		}
	}
	return out
}

// sortedPaths are sorted paths that can be searched for a path or its parents.
type sortedPaths []string

func (c *Checkout) ignoredPaths() sortedPaths {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out sortedPaths
	for p, ignored := range c.ignored {
		if ignored {
			out = append(out, strings.TrimSuffix(p, "/"))
		}
	}
	slices.Sort(out)
	return out
}

// meets tells whether one of the paths is p, is inside it, or contains it.
func (l sortedPaths) meets(p string) bool {
	if i, ok := slices.BinarySearch(l, p); ok || (i < len(l) && inside(l[i], p)) {
		return true
	}
	if i, _ := slices.BinarySearch(l, p+"/"); i < len(l) && inside(l[i], p) {
		return true
	}
	for i := strings.LastIndexByte(p, '/'); i > 0; i = strings.LastIndexByte(p[:i], '/') {
		if _, ok := slices.BinarySearch(l, p[:i]); ok {
			return true
		}
	}
	return false
}

// list returns the files that tasks may read, below the given directories:
// those that git tracks or does not ignore, and ignored files if a pattern's
// literal start is ignored; and which of them git ignores.
func (c *Checkout) list(ctx context.Context, below []string) ([]string, tree.Ignored, error) {
	var starts []string
	for _, s := range c.Graph.IgnoredStarts() {
		if (len(below) == 0 || slices.ContainsFunc(below, func(b string) bool { return inside(s, b) || inside(b, s) })) && c.exists(s) {
			starts = append(starts, s)
		}
	}
	var paths, ignored []string
	var inner []found
	outside, links := c.besideSubmodules(below)
	g, gctx := errgroup.WithContext(ctx)
	if len(outside) > 0 || len(below) == 0 {
		g.Go(func() (err error) { paths, err = c.Git.Files(gctx, outside...); return err })
	}
	g.Go(func() (err error) { ignored, err = c.Git.Ignored(gctx, starts); return err })
	g.Go(func() (err error) { inner, err = c.inSubmodules(gctx, links); return err })
	if err := g.Wait(); err != nil {
		return nil, tree.Ignored{}, err
	}
	more, err := c.ignoredFiles(append(ignored, c.inOtherRepositories(starts)...))
	if err != nil {
		return nil, tree.Ignored{}, err
	}
	for _, f := range inner {
		if len(below) == 0 || slices.ContainsFunc(below, func(b string) bool { return inside(f.path, b) }) {
			paths = append(paths, f.path)
		}
	}
	for _, p := range paths {
		delete(more.Files, p)
	}
	paths = slices.AppendSeq(paths, maps.Keys(more.Files))
	slices.Sort(paths)
	return slices.Compact(paths), more, nil
}

func inside(p, dir string) bool {
	return dir == "" || dir == "." || p == dir || strings.HasPrefix(p, dir+"/")
}

func (c *Checkout) exists(p string) bool {
	_, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(p)))
	return err == nil
}

func (c *Checkout) walk(start string) ([]string, error) {
	var out []string
	err := filepath.WalkDir(filepath.Join(c.Root, filepath.FromSlash(start)), func(p string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && d.IsDir() && (d.Name() == ".git" || d.Name() == ".grayloft") {
			return filepath.SkipDir
		}
		isClosed := errors.Is(err, fs.ErrPermission) && d != nil && d.IsDir()
		if err != nil && !isClosed || d.IsDir() && !isClosed {
			return err
		}
		rel, err := filepath.Rel(c.Root, p) // a directory that cannot be read is listed like a file that cannot
		out = append(out, filepath.ToSlash(rel))
		return err
	})
	return out, err
}

// Again looks at the files below the given directories as they are now,
// starting from an earlier snapshot: if the directories still contain the same
// names, git is not asked. None means the whole checkout.
func (c *Checkout) Again(ctx context.Context, earlier *Snapshot, below ...string) (*Snapshot, Directories, error) {
	among := below
	if len(below) == 0 {
		among = []string{"."}
	}
	dirs, same, err := c.holdsTheSame(ctx, earlier, among)
	if err != nil {
		return nil, nil, err
	}
	if same {
		return &Snapshot{
			checkout: c, Tree: earlier.Tree, paths: earlier.paths, few: map[int]*rowResult{}, offers: map[*graph.Project]manifest{},
		}, dirs, nil
	}
	snap, err := c.Snapshot(ctx, below...)
	if err == nil {
		dirs, _, err = c.holdsTheSame(ctx, snap, among)
	}
	return snap, dirs, err
}

// holdsTheSame tells whether directories contain only the files of a snapshot,
// outputs of tasks and ignored files, and returns the directories that it looked into. Missing files
// are noticed when they are read. Ignored directories are not opened, and git is asked about what is
// new once for each level of directories.
func (c *Checkout) holdsTheSame(ctx context.Context, earlier *Snapshot, below []string) (dirs Directories, same bool, err error) {
	w := &comparison{c: c, earlier: earlier, starts: c.Graph.IgnoredStarts(), dirs: Directories{}}
	same = true
	for level := below; len(level) > 0; {
		next, unknown, err := w.look(level)
		if err != nil {
			return nil, false, err
		}
		visible, err := c.askIgnored(ctx, unknown, w.isDir)
		if err != nil {
			return nil, false, err
		}
		for _, p := range visible {
			if w.isDir[p] {
				next = append(next, p)
			} else {
				same = false
			}
		}
		level = next
	}
	return w.dirs, same && !w.news, nil
}

// comparison compares directories with a snapshot, level by level.
type comparison struct {
	c       *Checkout
	earlier *Snapshot
	starts  []string        // literal starts of patterns that read ignored files
	dirs    Directories     // that were looked into
	isDir   map[string]bool // of the unknown paths of this level
	news    bool            // an ignored file that a pattern finds is new
}

// look reads the directories of a level. It returns the directories to look at
// next, and paths that git must be asked about.
func (w *comparison) look(level []string) (next, unknown []string, err error) {
	w.isDir = map[string]bool{}
	for _, dir := range level {
		if _, seen := w.dirs[dir]; seen {
			continue
		}
		full := filepath.Join(w.c.Root, filepath.FromSlash(dir))
		at, _ := statusOf(full)
		entries, err := os.ReadDir(full)
		w.dirs[dir] = w.directory(dir, full, at, entries)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case errors.Is(err, syscall.ENOTDIR):
			if !w.isKnown(dir) {
				unknown = append(unknown, dir)
			}
		case errors.Is(err, fs.ErrPermission):
			w.news = w.news || !w.earlier.Has(dir)
		case err != nil:
			return nil, nil, err
		}
		for _, e := range entries {
			p := path.Join(dir, e.Name())
			switch {
			case e.Name() == ".git", e.Name() == ".grayloft":
			case e.IsDir() && (w.earlier.HasBelow(p) || meetsAny(w.starts, p)):
				next = append(next, p)
			case !e.IsDir() && w.isNews(p):
				w.news = true
			case w.c.knownIgnored(p, e.IsDir()), !e.IsDir() && w.isKnown(p):
			default:
				unknown = append(unknown, p)
				w.isDir[p] = e.IsDir()
			}
		}
	}
	return next, unknown, nil
}

// isNews tells whether a file, not a directory, is new where patterns find ignored files.
func (w *comparison) isNews(p string) bool {
	if w.earlier.Has(p) || w.c.Graph.IsOutput(p) {
		return false
	}
	return slices.ContainsFunc(w.starts, func(start string) bool {
		return inside(p, start) && (w.earlier.IsIgnoredStart(start) || !w.earlier.Has(start) && !w.earlier.HasBelow(start))
	})
}

// isKnown tells whether a file, not a directory, needs no question to git.
func (w *comparison) isKnown(p string) bool {
	return w.earlier.Has(p) || w.c.Graph.IsOutput(p) || w.c.knownIgnored(p, false)
}

// meetsAny tells whether p is inside one of the paths or contains one.
func meetsAny(starts []string, p string) bool {
	return slices.ContainsFunc(starts, func(s string) bool { return inside(s, p) || inside(p, s) })
}

// askIgnored asks git about paths, remembers those that are ignored, and returns
// the others.
func (c *Checkout) askIgnored(ctx context.Context, among []string, isDir map[string]bool) (visible []string, err error) {
	ignored, err := c.Git.Ignored(ctx, among)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ignored == nil {
		c.ignored = map[string]bool{}
	}
	for _, p := range ignored {
		c.ignored[ruled(p, isDir[p])] = true
	}
	return slices.DeleteFunc(among, func(p string) bool { return c.ignored[ruled(p, isDir[p])] }), nil
}

func (c *Checkout) knownIgnored(p string, dir bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ignored[ruled(p, dir)]
}
