// Package graph relates projects and tasks to each other: what needs what,
// what comes after what, which files belong to whom. In go declarations; out
// comes a graph without cycles, or every problem found on the way.
package graph

import (
	"errors"
	"io/fs"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

// Graph is a repository whose declarations have been found right.
type Graph struct {
	Repo     *decl.Repo
	Chosen   decl.Chosen // the value of every setting; the defaults unless set
	Projects []*Project  // sorted by name
	Tasks    []*Task     // each after all that it comes after; ties by address
	byName   map[string]*Project
	byDir    map[string]*Project
	byAddr   map[string]*Task
}

// Project is a project with what it builds on.
type Project struct {
	*decl.Project
	Needs    []*Project // directly
	NeedsAll []*Project // transitively, sorted by name
	Tasks    []*Task    // sorted by name
	index    int        // in Graph.Projects
	offers   []offer
	to       []audience
	writers  []*Task // its tasks that write something
	offering []*Task // of these, those that make what it offers
}

// audience is one row of a project's offers_to.
type audience struct {
	dirs    bool // the pattern is over directories
	pattern glob.Pattern
}

// OffersTo tells whether q may read what the project offers.
func (p *Project) OffersTo(q *Project) bool {
	if p == q || !p.Project.OffersTo.Given {
		return true
	}
	return slices.ContainsFunc(p.to, func(a audience) bool { return a.takesIn(q) })
}

func (a audience) takesIn(q *Project) bool {
	if a.dirs {
		return a.pattern.Match(q.Dir)
	}
	return a.pattern.MatchExact(q.Name)
}

type offer struct {
	negated bool
	pattern glob.Pattern
}

// Task is a task with its place in the graph.
type Task struct {
	*decl.Task
	Project      *Project
	Index        int     // in Graph.Tasks
	Dependencies []*Task // what its after names, resolved; sorted by address
	Dependents   []*Task // what names it
	addr         string
	number       int  // while edges are made
	named        bits // the tasks that after has named so far, while edges are made
	ancestors    bits // everything that it comes after, transitively
	graph        *Graph
}

// Load reads the declarations below fsys and builds their graph. Everything
// that is wrong comes as one [decl.Problems].
func Load(fsys fs.FS, base string) (*Graph, error) {
	repo, problems, err := decl.Load(fsys, base)
	if err != nil {
		return nil, err
	}
	g, more := Build(repo)
	if problems = append(problems, more...); len(problems) > 0 {
		return nil, problems.Sorted()
	}
	return g, nil
}

// Build relates what repo declares.
func Build(repo *decl.Repo) (*Graph, decl.Problems) {
	b := &builder{g: &Graph{
		Repo: repo, byName: map[string]*Project{}, byDir: map[string]*Project{}, byAddr: map[string]*Task{},
	}}
	b.projects()
	b.edges()
	b.order()
	b.audiences()
	b.meetings()
	b.g.Chosen, _ = repo.Choose(nil, nil)
	return b.g, b.problems
}

// Project returns the project of that name, or nil.
func (g *Graph) Project(name string) *Project { return g.byName[name] }

// Task returns the task of that address, or nil.
func (g *Graph) Task(addr string) *Task { return g.byAddr[addr] }

// TaskNames returns the names that tasks have, each once, sorted.
func (g *Graph) TaskNames() []string {
	var out []string
	for _, t := range g.Tasks {
		out = append(out, t.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// ProjectNames returns the names of all projects, sorted.
func (g *Graph) ProjectNames() []string {
	out := make([]string, len(g.Projects))
	for i, p := range g.Projects {
		out[i] = p.Name
	}
	return out
}

// Addr returns the task's address, task@project.
func (t *Task) Addr() string { return t.addr }

// ComesAfter tells whether t waits for other, directly or not.
func (t *Task) DependsOn(other *Task) bool { return t.ancestors.has(other.Index) }

// AfterItem returns the row of the task's after that names u.
func (t *Task) DeclaredAt(u *Task) decl.Item {
	for _, it := range t.Decl.After.Items {
		name, where, far := strings.Cut(it.Text, "@")
		switch {
		case name != u.Name:
		case !far && u.Project == t.Project, where == u.Project.Name,
			where == "needs:*" && slices.Contains(t.Project.NeedsAll, u.Project):
			return it
		}
	}
	return decl.Item{}
}

// Upstream returns every task that t comes after, transitively, in the order
// of the graph.
func (t *Task) Ancestors() []*Task {
	var out []*Task
	for i := range t.ancestors.all() {
		out = append(out, t.graph.Tasks[i])
	}
	return out
}

// Counted returns the tasks whose listings are counted in the key of t, in the
// order of the graph. Of a sealed task these are the ones that it comes
// directly after, since it sees no others, with the tasks before them in place
// of those that write nothing; of others everything upstream, but the ones that
// write nothing.
func (t *Task) KeyDependencies() []*Task {
	if t.Isolation == decl.Sealed {
		in := newBits(len(t.graph.Tasks))
		t.directDependencies(in)
		return t.graph.members(in)
	}
	return slices.DeleteFunc(t.Ancestors(), func(u *Task) bool { return u.Transparent() })
}

func (t *Task) directDependencies(in bits) {
	for _, u := range t.Dependencies {
		if u.Transparent() {
			u.directDependencies(in)
		} else {
			in.set(u.Index)
		}
	}
}

// Transparent tells whether the task declares that it writes nothing, so that
// what comes after it counts the tasks before it in its place.
func (t *Task) Transparent() bool { return t.WritesGiven() && len(t.Writes) == 0 }

// Undeclared returns the first task, t itself included, that does not say
// what it writes, so that t always has to run; or nil.
func (t *Task) WithoutWrites() *Task {
	if !t.WritesGiven() {
		return t
	}
	for _, u := range t.Ancestors() {
		if !u.WritesGiven() {
			return u
		}
	}
	return nil
}

// Closure returns the tasks and all that they come after, in the order of the
// graph.
func (g *Graph) Closure(tasks []*Task) []*Task {
	in := newBits(len(g.Tasks))
	for _, t := range tasks {
		in.set(t.Index)
		in.or(t.ancestors)
	}
	return g.members(in)
}

// Downstream returns the tasks and all that comes after them, in the order of
// the graph.
func (g *Graph) Dependents(tasks []*Task) []*Task {
	from := newBits(len(g.Tasks))
	for _, t := range tasks {
		from.set(t.Index)
	}
	out := newBits(len(g.Tasks))
	for _, t := range g.Tasks {
		if from.has(t.Index) || t.ancestors.meets(from) {
			out.set(t.Index)
		}
	}
	return g.members(out)
}

func (g *Graph) members(in bits) []*Task {
	var out []*Task
	for i := range in.all() {
		out = append(out, g.Tasks[i])
	}
	return out
}

// AsProblems returns the problems that an error of [Load] consists of.
func AsProblems(err error) (decl.Problems, bool) {
	var ps decl.Problems
	ok := errors.As(err, &ps)
	return ps, ok
}

func byAddr(a, b *Task) int { return strings.Compare(a.addr, b.addr) }

// Graph returns the graph that the task is part of.
func (t *Task) Graph() *Graph { return t.graph }
