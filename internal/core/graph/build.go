package graph

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

type builder struct {
	g        *Graph
	problems decl.Problems
	afterPos map[[2]*Task]decl.Item // the row of after that made an edge
}

func (b *builder) fail(pos decl.Pos, advice, format string, args ...any) {
	b.problems = append(b.problems, b.g.Repo.Problem(pos, advice, format, args...))
}

// unknown reports a name that nothing has, unless it may stand in a file that
// could not be read.
func (b *builder) unknown(pos decl.Pos, advice, format string, args ...any) {
	if !b.g.Repo.Unread {
		b.fail(pos, advice, format, args...)
	}
}

func (b *builder) projects() {
	g := b.g
	for _, d := range g.Repo.Projects {
		p := &Project{Project: d}
		for _, it := range d.Offers.Items {
			text, neg := strings.CutPrefix(it.Text, "!")
			if pat, err := glob.Parse(text); err == nil {
				p.offers = append(p.offers, offer{neg, pat})
			}
		}
		for _, t := range d.Tasks {
			node := &Task{Task: t, Project: p, graph: g}
			p.Tasks = append(p.Tasks, node)
			g.byAddr[t.Addr()] = node
			g.Tasks = append(g.Tasks, node)
		}
		g.byName[p.Name], g.byDir[p.Dir] = p, p
		g.Projects = append(g.Projects, p)
	}
	for _, p := range g.Projects {
		for _, it := range p.Project.Needs {
			q, ok := g.byName[it.Text]
			switch {
			case !ok:
				b.unknown(it.Pos, b.meantProject(it.Text), "project %q needs %q, and no project is called that", p.Name, it.Text)
			case q == p:
				b.fail(it.Pos, "take it out", "project %q needs itself", p.Name)
			case !slices.Contains(p.Needs, q):
				p.Needs = append(p.Needs, q)
			}
		}
	}
	b.needsAll()
}

// needsAll closes needs transitively and reports a cycle once, as a path.
func (b *builder) needsAll() {
	const walking, done = 1, 2
	state := map[*Project]int{}
	var path []*Project
	var walk func(p *Project)
	walk = func(p *Project) {
		state[p] = walking
		path = append(path, p)
		set := map[*Project]bool{}
		for _, q := range p.Needs {
			if state[q] == walking {
				b.needsCycle(path[slices.Index(path, q):])
				continue
			}
			if state[q] == 0 {
				walk(q)
			}
			set[q] = true
			for _, r := range q.NeedsAll {
				set[r] = true
			}
		}
		for q := range set {
			p.NeedsAll = append(p.NeedsAll, q)
		}
		slices.SortFunc(p.NeedsAll, func(a, c *Project) int { return strings.Compare(a.Name, c.Name) })
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
			b.fail(it.Pos, "take one of these needs out, or move what both need into a project of its own",
				"projects need each other in a circle: %s → %s", strings.Join(names, " → "), first.Name)
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
	b.afterPos = map[[2]*Task]decl.Item{}
	for _, t := range b.g.Tasks {
		for _, it := range t.Decl.After.Items {
			for _, u := range b.after(t, it) {
				b.edge(t, u, it)
			}
		}
		slices.SortFunc(t.Before, byAddr)
	}
}

func (b *builder) edge(t, u *Task, it decl.Item) {
	if u == t {
		b.fail(it.Pos, "take it out", "task %s comes after itself", t.Addr())
		return
	}
	if _, ok := b.afterPos[[2]*Task{t, u}]; ok {
		return
	}
	b.afterPos[[2]*Task{t, u}] = it
	t.Before = append(t.Before, u)
	u.After = append(u.After, t)
}

// after resolves one row of a task's after.
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
			b.unknown(it.Pos, b.meantProject(where), "%s comes after %q, and no project is called %q", t.Addr(), it.Text, where)
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
	if c := decl.Closest(name, names); c != "" {
		advice = fmt.Sprintf("did you mean %q?", c)
	} else if len(names) == 0 {
		advice = "it has no tasks at all"
	}
	b.unknown(it.Pos, advice, "%s comes after %q, and project %q%s has no task %q", t.Addr(), it.Text, p.Name, where, name)
}

func (b *builder) afterNeeds(t *Task, name string, it decl.Item) []*Task {
	var out []*Task
	for _, q := range t.Project.NeedsAll {
		if u := b.g.byAddr[name+"@"+q.Name]; u != nil {
			out = append(out, u)
		}
	}
	if len(out) == 0 && !slices.Contains(b.g.TaskNames(), name) {
		advice := "grayloft tasks lists the names"
		if c := decl.Closest(name, b.g.TaskNames()); c != "" {
			advice = fmt.Sprintf("did you mean %q?", c+"@needs:*")
		}
		b.unknown(it.Pos, advice, "%s comes after %q, and no project has a task %q", t.Addr(), it.Text, name)
	}
	return out
}

// order sorts tasks so that each stands after what it comes after. Where they
// wait for each other in a circle, the edge that closes it is reported and
// then passed over, so that what else is wrong can be found as well.
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
		for _, u := range t.Before {
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
		t.above = newBits(len(sorted))
		slices.SortFunc(t.After, byAddr)
	}
	for _, t := range sorted {
		for _, u := range t.Before {
			if u.Index < t.Index {
				t.above.set(u.Index)
				t.above.or(u.above)
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
	b.fail(b.afterPos[[2]*Task{last, first}].Pos, "take one of these out of its after",
		"tasks wait for each other in a circle: %s → %s", strings.Join(names, " → "), first.Addr())
}

// meetings checks what tasks write against what others write and read.
func (b *builder) meetings() {
	var writers []*Task
	for _, t := range b.g.Tasks {
		if len(t.Writes) > 0 {
			writers = append(writers, t)
		}
	}
	slices.SortFunc(writers, func(x, y *Task) int {
		return cmp.Or(strings.Compare(x.Pos.File, y.Pos.File), x.Pos.Line-y.Pos.Line, byAddr(x, y))
	})
	for _, p := range b.g.Projects {
		b.writesMeet(p)
	}
	for _, t := range b.g.Tasks {
		b.ownWrites(t)
		for _, w := range writers {
			if w != t && !t.ComesAfter(w) && !w.ComesAfter(t) {
				b.unordered(t, w)
			}
		}
	}
}

func (b *builder) writesMeet(p *Project) {
	for i, t := range p.Tasks {
		for _, u := range p.Tasks[i+1:] {
			for k, w := range t.Writes {
				if j := slices.IndexFunc(u.Writes, w.Meets); j >= 0 {
					it, other := u.Decl.Writes.Items[j], t.Decl.Writes.Items[k]
					b.fail(it.Pos, "let each file be written by one task only",
						"%s writes %q, which meets %q of %s in %s", u.Addr(), it.Text, other.Text, t.Addr(), other.Pos.At())
					break
				}
			}
		}
	}
}

// ownWrites reports a task that rewrites what it reads, such as a formatter:
// there is no state of the files that its key could be taken of.
func (b *builder) ownWrites(t *Task) {
	for _, w := range t.Writes {
		for _, r := range t.Reads {
			if r.Scope == decl.Own && !r.Negated && r.Pattern.Covers(w) && !takenAway(t.Reads, decl.Own, w) {
				b.fail(r.Item.Pos, fmt.Sprintf("add %q to reads if it only makes these files; if it rewrites its sources, leave writes out and set reuse = \"never\"", "!"+w.String()),
					"%s reads what it writes itself: %q meets %q", t.Addr(), r.Item.Text, w)
				return
			}
		}
	}
}

// unordered reports a read that meets what another task writes, where neither
// waits for the other.
func (b *builder) unordered(t, w *Task) {
	for _, pat := range w.Writes {
		if w.Project == t.Project {
			if r := meeting(t.Reads, decl.Own, pat); r != nil {
				b.unorderedRead(t, w, r, w.Name, pat)
				return
			}
		}
		if r := meeting(t.Reads, decl.Root, pat.Under(w.Project.Dir)); r != nil {
			b.unorderedRead(t, w, r, w.Addr(), pat.Under(w.Project.Dir))
			return
		}
	}
	if !t.NeedsRead() || !slices.Contains(t.Project.NeedsAll, w.Project) {
		return
	}
	for _, pat := range w.Writes {
		if w.Project.offersMeet(pat) {
			i := slices.IndexFunc(t.Reads, func(r decl.Read) bool { return r.Scope == decl.Needs })
			b.fail(t.Reads[i].Item.Pos, fmt.Sprintf("add %q to after, or take %q out of the offers of %q", w.Addr(), pat, w.Project.Name),
				"%s reads what %q offers, of which %s makes %q, and it does not come after that", t.Addr(), w.Project.Name, w.Addr(), pat)
			return
		}
	}
}

func (b *builder) unorderedRead(t, w *Task, r *decl.Read, after string, pat glob.Pattern) {
	away := "!" + pat.String()
	if r.Scope == decl.Root {
		away = "!repo:" + pat.String()
	}
	b.fail(r.Item.Pos, fmt.Sprintf("add %q to after, or %q to reads", after, away),
		"%s reads %q, which meets what %s writes (%q in %s), and neither comes after the other",
		t.Addr(), r.Item.Text, w.Addr(), pat, w.Decl.Writes.Pos.At())
}

// meeting returns the row of reads that can match what pat matches.
func meeting(reads []decl.Read, scope decl.Scope, pat glob.Pattern) *decl.Read {
	if takenAway(reads, scope, pat) {
		return nil
	}
	for i, r := range reads {
		if r.Scope == scope && !r.Negated && r.Pattern.Meets(pat) && !takenAway(reads[i+1:], scope, r.Pattern) {
			return &reads[i]
		}
	}
	return nil
}

// takenAway tells whether a "!" row, with no row after it that brings some of
// it back, covers all of pat.
func takenAway(reads []decl.Read, scope decl.Scope, pat glob.Pattern) bool {
	away := false
	for _, r := range reads {
		switch {
		case r.Scope != scope:
		case r.Negated && r.Pattern.Covers(pat):
			away = true
		case !r.Negated && r.Pattern.Meets(pat):
			away = false
		}
	}
	return away
}
