package graph

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

type builder struct {
	g         *Graph
	problems  decl.Problems
	taskNames map[string]bool
	rewrites  map[*decl.TaskDecl]bool // whether it reads what it writes; kinds share declarations
}

func (b *builder) fail(pos decl.Pos, advice, format string, args ...any) {
	b.problems = append(b.problems, b.g.Repo.Problem(pos, advice, format, args...))
}

// unknown reports an undefined name, unless it may be in a file that could not
// be read.
func (b *builder) unknown(pos decl.Pos, advice, format string, args ...any) {
	if !b.g.Repo.Unread {
		b.fail(pos, advice, format, args...)
	}
}

func (b *builder) projects() {
	g := b.g
	b.taskNames = map[string]bool{}
	for _, d := range g.Repo.Projects {
		p := &Project{Project: d}
		for _, it := range d.Offers.Items {
			text, neg := strings.CutPrefix(it.Text, "!")
			if pat, err := glob.Parse(text); err == nil {
				p.offers = append(p.offers, offer{neg, pat})
			}
		}
		for _, it := range d.OffersTo.Items {
			text, dirs := it.Text, it.Text == "." || strings.HasPrefix(it.Text, "./")
			if pat, err := glob.Parse(text); err == nil {
				p.to = append(p.to, audience{dirs, pat})
			}
		}
		for _, t := range d.Tasks {
			node := &Task{Task: t, Project: p, graph: g, addr: t.Addr()}
			p.Tasks = append(p.Tasks, node)
			b.taskNames[t.Name] = true
			g.byAddr[node.addr] = node
			g.Tasks = append(g.Tasks, node)
		}
		p.index = len(g.Projects)
		g.byName[p.Name], g.byDir[p.Dir] = p, p
		g.Projects = append(g.Projects, p)
	}
	for _, p := range g.Projects {
		for _, it := range p.Project.Needs {
			q, ok := g.byName[it.Text]
			switch {
			case !ok:
				b.unknown(it.Pos, b.meantProject(it.Text), "project %q needs %q, but no project has that name", p.Name, it.Text)
			case q == p:
				b.fail(it.Pos, "remove it", "project %q needs itself", p.Name)
			case !slices.Contains(p.Needs, q):
				p.Needs = append(p.Needs, q)
			}
		}
	}
	b.needsAll()
}

// needsAll computes the transitive needs and reports a cycle once, as a path.
func (b *builder) needsAll() {
	const walking, done = 1, 2
	state := map[*Project]int{}
	var path []*Project
	var walk func(p *Project)
	walk = func(p *Project) {
		state[p] = walking
		path = append(path, p)
		set := newBits(len(b.g.Projects))
		for _, q := range p.Needs {
			if state[q] == walking {
				b.needsCycle(path[slices.Index(path, q):])
				continue
			}
			if state[q] == 0 {
				walk(q)
			}
			set.set(q.index)
			for _, r := range q.NeedsAll {
				set.set(r.index)
			}
		}
		for i := range set.all() { // projects are sorted by name
			p.NeedsAll = append(p.NeedsAll, b.g.Projects[i])
		}
		path = path[:len(path)-1]
		state[p] = done
	}
	for _, p := range b.g.Projects {
		if state[p] == 0 {
			walk(p)
		}
	}
}

func (b *builder) needsCycle(cycle []*Project) {
	last, first := cycle[len(cycle)-1], cycle[0]
	var names []string
	for _, p := range cycle {
		names = append(names, p.Name)
	}
	for _, it := range last.Project.Needs {
		if it.Text == first.Name {
			b.fail(it.Pos, "remove one of these needs, or move the code that both need into a project of its own",
				"projects need each other in a cycle: %s → %s", strings.Join(names, " → "), first.Name)
			return
		}
	}
}

func (b *builder) meantProject(name string) string {
	if c := decl.Closest(name, b.g.ProjectNames()); c != "" {
		return fmt.Sprintf("did you mean %q?", c)
	}
	return "grayloft projects lists the names"
}

func (b *builder) edges() {
	for i, t := range b.g.Tasks {
		t.number = i
	}
	for _, t := range b.g.Tasks {
		t.named = newBits(len(b.g.Tasks))
		for _, it := range t.Decl.After.Items {
			for _, u := range b.after(t, it) {
				b.edge(t, u, it)
			}
		}
		t.named = nil
		slices.SortFunc(t.Dependencies, byAddr)
	}
}

func (b *builder) edge(t, u *Task, it decl.Item) {
	if u == t {
		b.fail(it.Pos, "remove it", "task %s depends on itself", t.Addr())
		return
	}
	if t.named.has(u.number) {
		return
	}
	t.named.set(u.number)
	t.Dependencies = append(t.Dependencies, u)
	u.Dependents = append(u.Dependents, t)
}

// after resolves one item of a task's after.
func (b *builder) after(t *Task, it decl.Item) []*Task {
	name, where, far := strings.Cut(it.Text, "@")
	p := t.Project
	switch {
	case !far:
	case where == "needs:*":
		return b.afterNeeds(t, name, it)
	default:
		p = b.g.byName[where]
		if p == nil {
			b.unknown(it.Pos, b.meantProject(where), "%s depends on %q, but no project is named %q", t.Addr(), it.Text, where)
			return nil
		}
	}
	if u := b.g.byAddr[name+"@"+p.Name]; u != nil {
		return []*Task{u}
	}
	b.noTask(t, p, name, it)
	return nil
}

func (b *builder) noTask(t *Task, p *Project, name string, it decl.Item) {
	var names []string
	for _, u := range p.Tasks {
		names = append(names, u.Name)
	}
	where := ""
	if it.Pos.File != p.Pos.File {
		where = ", declared in " + p.Pos.At() + ","
	}
	advice := fmt.Sprintf("its tasks are: %s", strings.Join(names, ", "))
	if u := b.g.Meant(it.Text); u != nil {
		advice = fmt.Sprintf("did you mean %q?", u.Addr())
	} else if q := b.g.byName[it.Text]; q != nil && len(q.Tasks) > 0 {
		advice = fmt.Sprintf("that is a project: name one of its tasks, such as %q", q.Tasks[0].Addr())
	} else if c := decl.Closest(name, names); c != "" {
		advice = fmt.Sprintf("did you mean %q?", c)
	} else if len(names) == 0 {
		advice = "it has no tasks"
	}
	if !p.Project.Lacks {
		b.unknown(it.Pos, advice, "%s depends on %q, but project %q%s has no task %q", t.Addr(), it.Text, p.Name, where, name)
	}
}

func (b *builder) afterNeeds(t *Task, name string, it decl.Item) []*Task {
	var out []*Task
	for _, q := range t.Project.NeedsAll {
		if u := b.g.byAddr[name+"@"+q.Name]; u != nil {
			out = append(out, u)
		}
	}
	if len(out) == 0 && !b.taskNames[name] {
		advice := "grayloft tasks lists the names"
		if c := decl.Closest(name, b.g.TaskNames()); c != "" {
			advice = fmt.Sprintf("did you mean %q?", c+"@needs:*")
		}
		b.unknown(it.Pos, advice, "%s depends on %q, but no project has a task %q", t.Addr(), it.Text, name)
	}
	return out
}

// order sorts tasks so that each comes after its dependencies. In a cycle, the
// edge that closes it is reported and then ignored, so that other errors can be
// found as well.
func (b *builder) order() {
	g := b.g
	slices.SortFunc(g.Tasks, byAddr)
	const walking, done = 1, 2
	state := map[*Task]int{}
	var path, sorted []*Task
	var walk func(t *Task)
	walk = func(t *Task) {
		state[t] = walking
		path = append(path, t)
		for _, u := range t.Dependencies {
			switch state[u] {
			case walking:
				b.afterCycle(path[slices.Index(path, u):])
			case 0:
				walk(u)
			}
		}
		path = path[:len(path)-1]
		state[t] = done
		sorted = append(sorted, t)
	}
	for _, t := range g.Tasks {
		if state[t] == 0 {
			walk(t)
		}
	}
	g.Tasks = sorted
	for i, t := range sorted {
		t.Index = i
		t.ancestors = newBits(len(sorted))
		slices.SortFunc(t.Dependents, byAddr)
	}
	for _, t := range sorted {
		for _, u := range t.Dependencies {
			if u.Index < t.Index {
				t.ancestors.set(u.Index)
				t.ancestors.or(u.ancestors)
			}
		}
	}
}

func (b *builder) afterCycle(cycle []*Task) {
	var names []string
	for _, t := range cycle {
		names = append(names, t.Addr())
	}
	first, last := cycle[0], cycle[len(cycle)-1]
	b.fail(last.DeclaredAt(first).Pos, "remove one of these from its after",
		"tasks depend on each other in a cycle: %s → %s", strings.Join(names, " → "), first.Addr())
}
