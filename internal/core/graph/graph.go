// Package graph relates projects and tasks to each other: what needs what, what
// depends on what, which files belong to whom. It takes declarations,
// and returns a graph without cycles, or every problem that it found.
package graph

import (
	"errors"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

// Graph is a repository whose declarations are valid.
type Graph struct {
	Repo     *decl.Repo
	Chosen   decl.Chosen // the value of every setting; the defaults unless set
	Projects []*Project  // sorted by name
	Tasks    []*Task     // each after all its dependencies; ties by address
	byName   map[string]*Project
	byDir    map[string]*Project
	byAddr   map[string]*Task
	writable sync.Map // by directory: the result of [Graph.MayWriteIn]
}

// Project is a project with the projects it needs.
type Project struct {
	*decl.Project
	Needs    []*Project // directly
	NeedsAll []*Project // transitively, sorted by name
	Tasks    []*Task    // sorted by name
	index    int        // in Graph.Projects
	offers   []offer
	to       []audience
	writers  []*Task // its tasks that write something
	offering []*Task // those whose outputs it offers
	nested   bool    // there are projects below its directory
}

// audience is one pattern of a project's offers_to.
type audience struct {
	dirs    bool // the pattern matches directories
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

// Task is a task in the graph.
type Task struct {
	*decl.Task
	Project      *Project
	Index        int     // in Graph.Tasks
	Dependencies []*Task // the tasks that its after names; sorted by address
	Dependents   []*Task // the tasks that name it
	addr         string
	number       int  // while edges are made
	named        bits // the tasks that after has named so far, while edges are made
	ancestors    bits // all its dependencies, transitively
	graph        *Graph
}

// Load reads the declarations below fsys and builds their graph. All errors
// come as one [decl.Problems].
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

// Build relates the declarations in repo.
func Build(repo *decl.Repo) (*Graph, decl.Problems) {
	b := &builder{g: &Graph{
		Repo: repo, byName: map[string]*Project{}, byDir: map[string]*Project{}, byAddr: map[string]*Task{},
	}}
	b.projects()
	b.g.findNested()
	b.edges()
	b.order()
	b.audiences()
	b.meetings()
	b.g.Chosen, _ = repo.Choose(nil, nil)
	return b.g, b.problems
}

// Project returns the project with that name, or nil.
func (g *Graph) Project(name string) *Project { return g.byName[name] }

// Task returns the task with that address, or nil.
func (g *Graph) Task(addr string) *Task { return g.byAddr[addr] }

// TaskNames returns the names of all tasks, each once, sorted.
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

// DependsOn tells whether t depends on other, directly or not.
func (t *Task) DependsOn(other *Task) bool { return t.ancestors.has(other.Index) }

// DeclaredAt returns the item of the task's after that names u.
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

// Ancestors returns all dependencies of t, transitively, in graph order.
func (t *Task) Ancestors() []*Task {
	var out []*Task
	for i := range t.ancestors.all() {
		out = append(out, t.graph.Tasks[i])
	}
	return out
}

// KeyDependencies returns the tasks whose listings are part of the key of t, in
// graph order. For a sealed task these are its direct dependencies, since it
// sees no others, with the dependencies of those that write nothing in their
// place; for other tasks they are all transitive dependencies that write
// something.
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
// its dependents count its dependencies instead.
func (t *Task) Transparent() bool { return t.WritesGiven() && len(t.Writes) == 0 }

// WithoutWrites returns the first task, t itself included, that does not
// declare its writes, so that t always has to run; or nil.
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

// Closure returns the tasks and all their dependencies, in graph order.
func (g *Graph) Closure(tasks []*Task) []*Task {
	in := newBits(len(g.Tasks))
	for _, t := range tasks {
		in.set(t.Index)
		in.or(t.ancestors)
	}
	return g.members(in)
}

// Dependents returns the tasks and everything that depends on them, in graph
// order.
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

// Graph returns the graph that contains the task.
func (t *Task) Graph() *Graph { return t.graph }

// IsShareable tells whether the task's results may leave the machine that made
// them.
func (t *Task) IsShareable() bool {
	return t.ProbesGiven() && t.Reuse != decl.Local && t.Reuse != decl.Never
}

// Meant returns the task that a text seems to mean which names a task and a project, or its
// directory, in another form than an address does. Nil means that there is none.
func (g *Graph) Meant(text string) *Task {
	for i, r := range text {
		if !strings.ContainsRune(":#/.@ ", r) {
			continue
		}
		first, last := strings.Trim(text[:i], ":/"), strings.Trim(text[i+1:], ":/")
		for _, try := range [...]struct{ task, project string }{{last, first}, {first, last}} {
			p := g.byName[try.project]
			if p == nil {
				p = g.byDir[try.project]
			}
			if p == nil {
				continue
			}
			if t := g.byAddr[try.task+"@"+p.Name]; t != nil {
				return t
			}
		}
	}
	return nil
}
