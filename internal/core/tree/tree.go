// Package tree selects, among the files of a checkout, those that tasks read and
// projects offer, and checks that what a task reads through symbolic links is
// declared. It takes paths and returns indices of paths; it opens no file.
package tree

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Tree is the set of files that tasks of a checkout may read: paths only,
// without the outputs of tasks. A file is identified by its index in path
// order.
type Tree struct {
	g     *graph.Graph
	paths []string // sorted
	of    map[*graph.Project][]int

	ignored Ignored
	hidden  map[int]bool // which files git ignores
	written []int        // files that git tracks, and that match the writes of a task
	reads   sync.Map     // of tasks: the result of [Tree.Reads]
}

// Ignored are files of a checkout that git ignores. They are among its files because a pattern starts
// at them or at a directory that they are in, and are found by such patterns only.
type Ignored struct {
	Files  map[string]bool // paths from the root
	Starts map[string]bool // likewise
}

// New sorts the paths of a checkout (from the root) by the project they
// belong to. Outputs of tasks are left out, unless git tracks them, which is asked for these alone.
func New(g *graph.Graph, paths []string, ignored Ignored, isTracked func(path string) bool) *Tree {
	t := &Tree{
		g: g, paths: make([]string, 0, len(paths)), of: make(map[*graph.Project][]int, len(g.Projects)),
		ignored: ignored, hidden: map[int]bool{},
	}
	if !slices.IsSorted(paths) {
		paths = slices.Sorted(slices.Values(paths))
	}
	var owner *graph.Project
	dir := "\x00"
	for _, p := range paths {
		if d := p[:strings.LastIndexByte(p, '/')+1]; d != dir { // files of one directory are adjacent
			dir, owner = d, g.Owner(p)
		}
		if owner != nil {
			switch {
			case !owner.Writes(p):
				t.of[owner] = append(t.of[owner], len(t.paths))
			case g.Writer(p) != nil && isTracked(p):
				t.written = append(t.written, len(t.paths))
			default:
				continue
			}
		}
		if len(ignored.Files) > 0 && ignored.Files[p] {
			t.hidden[len(t.paths)] = true
		}
		t.paths = append(t.paths, p)
	}
	return t
}

// IsIgnoredStart tells whether a path, at which a pattern starts, is one at which git ignores files.
func (t *Tree) IsIgnoredStart(p string) bool { return t.ignored.Starts[p] }

// Len returns how many files there are.
func (t *Tree) Len() int { return len(t.paths) }

// Path returns the path of a file.
func (t *Tree) Path(i int) string { return t.paths[i] }

// Project returns the paths of a project's files that git does not ignore, sorted.
func (t *Tree) Project(p *graph.Project) []string {
	out := make([]string, 0, len(t.of[p]))
	for _, i := range t.of[p] {
		if !t.hidden[i] {
			out = append(out, t.paths[i])
		}
	}
	return out
}

// Has tells whether a path is among the files.
func (t *Tree) Has(p string) bool {
	_, ok := t.Index(p)
	return ok
}

// Index returns the index of a path, if it is among the files.
func (t *Tree) Index(p string) (i int, ok bool) { return slices.BinarySearch(t.paths, p) }

// HasBelow tells whether a directory contains some of the files.
func (t *Tree) HasBelow(dir string) bool {
	from, to := t.below(dir)
	return to > from
}

// Reads returns the files that the task's own patterns match, in order; the
// offers of needed projects are left to [Tree.Offers]. The result must not be changed.
func (t *Tree) Reads(task *graph.Task) []int {
	if known, ok := t.reads.Load(task); ok {
		return known.([]int)
	}
	out := t.find(task)
	t.reads.Store(task, out)
	return out
}

func (t *Tree) find(task *graph.Task) []int {
	var out []int
	own := t.matching(task.ReadsOwned, task.ReadsIgnored)
	for _, i := range t.of[task.Project] {
		if own(i) {
			out = append(out, i)
		}
	}
	others := t.matching(task.ReadsFile, task.ReadsIgnored)
	wide := false
	for _, r := range task.Reads {
		if r.Scope != decl.Root || r.Negated {
			continue
		}
		wide = true
		from, to := t.below(r.Pattern.LiteralStart())
		for i := from; i < to; i++ {
			if t.g.Owner(t.paths[i]) != task.Project && others(i) && !t.isWritten(i) {
				out = append(out, i)
			}
		}
	}
	if wide {
		slices.Sort(out)
		out = slices.Compact(out)
	}
	return out
}

func (t *Tree) isWritten(i int) bool {
	_, is := slices.BinarySearch(t.written, i)
	return is
}

// Written returns the files that git tracks, that match the writes of another task, and that a task
// may read: because a pattern of its own matches, because they are offered to it, or because it
// depends on that task. Each counts by its content unless the listing of a dependency contains it: a
// pattern alone hides nothing. They are in order.
func (t *Tree) Written(task *graph.Task) (out []int) {
	if len(t.written) == 0 {
		return nil
	}
	dependencies := task.KeyDependencies()
	for _, i := range t.written {
		p := t.paths[i]
		owner := t.g.Owner(p)
		isOffered := task.NeedsRead() && slices.Contains(task.Project.NeedsAll, owner) && owner.OffersOwned(p)
		isUpstream := slices.ContainsFunc(dependencies, func(u *graph.Task) bool { return u.WritesFile(p) })
		if !task.WritesFile(p) && (isOffered || isUpstream || task.ReadsFile(p)) {
			out = append(out, i)
		}
	}
	return out
}

// Below returns the files that a path is or contains, in order.
func (t *Tree) Below(p string) (out []int) {
	from, to := t.below(p)
	for i := from; i < to; i++ {
		out = append(out, i)
	}
	return out
}

// matching returns a function that tells whether a file matches patterns: those for files that git
// ignores know at which paths patterns lead to some.
func (t *Tree) matching(visible func(string) bool, ignored func(string, map[string]bool) bool) func(i int) bool {
	return func(i int) bool {
		if t.hidden[i] {
			return ignored(t.paths[i], t.ignored.Starts)
		}
		return visible(t.paths[i])
	}
}

// Offers returns the files that a project offers, in order.
func (t *Tree) Offers(p *graph.Project) []int {
	var out []int
	offered := t.matching(p.OffersOwned, p.OffersIgnored)
	for _, i := range t.of[p] {
		if offered(i) {
			out = append(out, i)
		}
	}
	return out
}

// below returns the range of files that are dir or inside it; all files for "".
func (t *Tree) below(dir string) (from, to int) {
	if dir == "" || dir == "." {
		return 0, len(t.paths)
	}
	i := sort.SearchStrings(t.paths, dir)
	if i < len(t.paths) && t.paths[i] == dir {
		return i, i + 1
	}
	return sort.SearchStrings(t.paths, dir+"/"), sort.SearchStrings(t.paths, dir+"0") // "0" is the byte after "/"
}

// HasReadBelow tells whether a directory contains some of the files that no task writes.
func (t *Tree) HasReadBelow(dir string) bool {
	from, to := t.below(dir)
	for i := from; i < to; i++ {
		if !t.isWritten(i) {
			return true
		}
	}
	return false
}

// Links answers questions about symbolic links, for [Tree.CheckLink].
type Links struct {
	Target func(path string) (string, bool) // the text of a link, if the path is one
	Exists func(path string) bool           // whether the path exists
}

// CheckLink tells whether the target of a link is itself read by the task or
// written by a dependency; if not, the error says what to add. Read holds all
// paths that the task reads; isLeft tells whether the listing of a dependency contains a path.
func (t *Tree) CheckLink(task *graph.Task, link string, read map[string]bool, isLeft func(string) bool, ask Links) error {
	uncovered := func(to string) error {
		return fmt.Errorf("%s reads the link %s, but not its target %s: add the target to reads, or \"!%s\"",
			task.Addr(), link, to, strings.TrimPrefix(link, task.Project.Dir+"/"))
	}
	at, todo := path.Dir(link), []string{}
	target, ok := ask.Target(link)
	if !ok {
		return nil
	}
	for hops := 0; ; hops++ {
		if strings.HasPrefix(target, "/") || hops > 40 {
			return uncovered(target)
		}
		todo = append(strings.Split(target, "/"), todo...)
		next, isLink := "", false
		for len(todo) > 0 && !isLink {
			step := todo[0]
			todo = todo[1:]
			next = path.Join(at, step)
			if next == ".." || strings.HasPrefix(next, "../") {
				return uncovered(target)
			}
			if target, isLink = ask.Target(next); !isLink {
				at = next
			}
		}
		if !isLink {
			break
		}
		if !read[next] && !isLeft(next) {
			return uncovered(next)
		}
	}
	from, to := t.below(at)
	for _, p := range t.paths[from:to] {
		if !read[p] && !isLeft(p) && !task.WritesFile(p) {
			return uncovered(p)
		}
	}
	if to > from || read[at] {
		return nil
	}
	if w := t.g.Writer(at); isLeft(at) || w != nil && task.DependsOn(w) {
		return nil
	}
	if ask.Exists(at) || read[link] && !task.ReadsFile(at) { // what a link among outputs leads to counts as soon as it exists
		return uncovered(at)
	}
	return nil
}
