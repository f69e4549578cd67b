package key

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Tree is the set of files that tasks of a checkout may read: paths alone,
// with what any task makes left out.
type Tree struct {
	g     *graph.Graph
	paths []string // sorted
	of    map[*graph.Project][]string
}

// NewTree sorts the paths of a checkout (from the root) by what they belong
// to.
func NewTree(g *graph.Graph, paths []string) *Tree {
	t := &Tree{g: g, of: map[*graph.Project][]string{}}
	for _, p := range paths {
		if g.Made(p) {
			continue
		}
		t.paths = append(t.paths, p)
		if owner := g.Owner(p); owner != nil {
			t.of[owner] = append(t.of[owner], p)
		}
	}
	if !slices.IsSorted(t.paths) {
		slices.Sort(t.paths)
	}
	for _, l := range t.of {
		slices.Sort(l)
	}
	return t
}

// Project returns the files of a project, sorted.
func (t *Tree) Project(p *graph.Project) []string { return t.of[p] }

// Reads returns the files that the task's own patterns take in, sorted; what
// needed projects offer is left to [Tree.Offers].
func (t *Tree) Reads(task *graph.Task) []string {
	var out []string
	for _, p := range t.of[task.Project] {
		if task.ReadsFile(p) {
			out = append(out, p)
		}
	}
	for _, r := range task.Reads {
		if r.Scope != decl.Root || r.Negated {
			continue
		}
		for _, p := range t.below(r.Pattern.LiteralStart()) {
			if t.g.Owner(p) != task.Project && task.ReadsFile(p) {
				out = append(out, p)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Offers returns the files that a project offers, sorted.
func (t *Tree) Offers(p *graph.Project) []string {
	var out []string
	for _, f := range t.of[p] {
		if p.OffersFile(t.g, f) {
			out = append(out, f)
		}
	}
	return out
}

// below returns the paths that are dir or lie in it; all of them for "".
func (t *Tree) below(dir string) []string {
	if dir == "" || dir == "." {
		return t.paths
	}
	i := sort.SearchStrings(t.paths, dir)
	if i < len(t.paths) && t.paths[i] == dir {
		return t.paths[i : i+1]
	}
	i = sort.SearchStrings(t.paths, dir+"/")
	j := sort.SearchStrings(t.paths, dir+"0") // "0" follows "/"
	return t.paths[i:j]
}

// Links answers what links lead to, for [Tree.CheckLink].
type Links struct {
	Target func(path string) (string, bool) // the text of a link, if the path is one
	Exists func(path string) bool           // whether anything is there
}

// CheckLink tells whether what a link leads to is itself read by the task or
// written by a task before it; if not, the error says what to add. Read holds
// all paths that the task reads.
func (t *Tree) CheckLink(task *graph.Task, link string, read map[string]bool, ask Links) error {
	uncovered := func(to string) error {
		return fmt.Errorf("%s reads the link %s, which leads to %s, and that is not among what it reads: add it to reads, or \"!%s\"",
			task.Addr(), link, to, strings.TrimPrefix(link, task.Project.Dir+"/"))
	}
	at, todo := path.Dir(link), []string{}
	target, _ := ask.Target(link)
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
		if !read[next] {
			return uncovered(next)
		}
	}
	for _, p := range t.below(at) {
		if !read[p] {
			return uncovered(p)
		}
	}
	if len(t.below(at)) > 0 || read[at] {
		return nil
	}
	if w := t.g.Writer(at); w != nil && task.ComesAfter(w) {
		return nil
	}
	if ask.Exists(at) || !task.ReadsFile(at) {
		return uncovered(at)
	}
	return nil
}
