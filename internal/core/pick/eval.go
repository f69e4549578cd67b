package pick

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/graph"
)

// Set is a set of tasks.
type Set map[*graph.Task]bool

// Sorted returns the tasks in graph order.
func (s Set) Sorted(g *graph.Graph) []*graph.Task {
	var out []*graph.Task
	for _, t := range g.Tasks {
		if s[t] {
			out = append(out, t)
		}
	}
	return out
}

// Facts answers what a graph does not say. Each is asked only if an expression
// needs it, because answers take time.
type Facts struct {
	Changed func() ([]*graph.Task, error) // the tasks that the changes touch directly
	Failed  func() ([]*graph.Task, error) // the tasks whose last result failed
	// Commits returns the tasks that are touched directly by commits since the base
	// whose message contains a text, and how many such commits there are.
	Commits func(text string) (tasks []*graph.Task, commits int, err error)
}

// Eval returns the tasks that the expression picks.
func (e Expr) Eval(g *graph.Graph, facts Facts) (Set, error) {
	v := &evaluation{g: g, facts: facts, text: e.text}
	return v.eval(e.root)
}

type evaluation struct {
	g          *graph.Graph
	facts      Facts
	text       string
	savedPicks []string // being evaluated, to detect cycles
}

func (v *evaluation) fail(n node, format string, args ...any) error {
	return &Error{v.text, n.at, fmt.Sprintf(format, args...)}
}

func (v *evaluation) eval(n node) (Set, error) {
	switch n.op {
	case "or", "and":
		return v.join(n)
	case "not":
		in, err := v.eval(n.kids[0])
		return v.where(func(t *graph.Task) bool { return !in[t] }), err
	case "word":
		return v.word(n.text)
	case "call":
		return v.call(n)
	case "field":
		return v.field(n)
	}
	return v.atom(n)
}

func (v *evaluation) where(keep func(*graph.Task) bool) Set {
	out := Set{}
	for _, t := range v.g.Tasks {
		if keep(t) {
			out[t] = true
		}
	}
	return out
}

func (v *evaluation) join(n node) (Set, error) {
	out, err := v.eval(n.kids[0])
	if err != nil {
		return nil, err
	}
	for _, k := range n.kids[1:] {
		s, err := v.eval(k)
		if err != nil {
			return nil, err
		}
		left := out
		if n.op == "or" {
			out = v.where(func(t *graph.Task) bool { return left[t] || s[t] })
		} else {
			out = v.where(func(t *graph.Task) bool { return left[t] && s[t] })
		}
	}
	return out, nil
}

func (v *evaluation) word(word string) (Set, error) {
	ask := v.facts.Changed
	switch word {
	case "all":
		return v.where(func(*graph.Task) bool { return true }), nil
	case "failed":
		ask = v.facts.Failed
	}
	tasks, err := ask()
	if err != nil {
		return nil, err
	}
	if word == "affected" {
		tasks = v.g.Dependents(tasks)
	}
	return setOf(tasks), nil
}

func setOf(tasks []*graph.Task) Set {
	out := Set{}
	for _, t := range tasks {
		out[t] = true
	}
	return out
}

// commits picks the tasks that the work of some commits touches.
func (v *evaluation) commits(n node) (Set, error) {
	tasks, commits, err := v.facts.Commits(n.text)
	if err == nil && commits == 0 {
		err = v.fail(n, "no commit since the base has %q in its message", n.text)
	}
	return setOf(tasks), err
}

func (v *evaluation) call(n node) (Set, error) {
	in, err := v.eval(n.kids[0])
	if err != nil {
		return nil, err
	}
	projects := map[*graph.Project]bool{}
	for t := range in {
		projects[t.Project] = true
		if n.name == "needs" {
			for _, p := range t.Project.NeedsAll {
				projects[p] = true
			}
		}
	}
	if n.name == "needed_by" {
		for _, p := range v.g.Projects {
			if slices.ContainsFunc(p.NeedsAll, func(q *graph.Project) bool { return inSet(in, q) }) {
				projects[p] = true
			}
		}
	}
	return v.where(func(t *graph.Task) bool { return projects[t.Project] }), nil
}

func inSet(in Set, p *graph.Project) bool {
	return slices.ContainsFunc(p.Tasks, func(t *graph.Task) bool { return in[t] })
}

func (v *evaluation) field(n node) (Set, error) {
	switch n.name {
	case "pick":
		return v.savedPick(n)
	case "commits":
		return v.commits(n)
	}
	known := map[string]bool{}
	has := func(p *graph.Project) bool {
		var vals []string
		switch n.name {
		case "tag":
			vals = texts(p.Tags)
		case "kind":
			vals = texts(p.Kinds)
		case "owner":
			vals = []string{p.Owner}
		}
		for _, val := range vals {
			if val != "" {
				known[val] = true
			}
		}
		return slices.Contains(vals, n.text)
	}
	found := false
	out := v.where(func(t *graph.Task) bool { return has(t.Project) })
	for _, p := range v.g.Projects {
		found = has(p) || found
	}
	if !found {
		var names []string
		for k := range known {
			names = append(names, k)
		}
		return nil, v.fail(n, "no project has the %s %q%s", n.name, n.text, suggestion(n.text, names))
	}
	return out, nil
}

func texts(items []decl.Item) []string {
	out := make([]string, len(items))
	for i, it := range items {
		out[i] = it.Text
	}
	return out
}

// others says which tasks there are instead of one.
func (v *evaluation) others(task string, in Set) string {
	var names []string
	for _, t := range in.Sorted(v.g) {
		names = append(names, t.Name)
	}
	slices.Sort(names)
	names = slices.Compact(names)
	switch near := suggestion(task, names); {
	case near != "":
		return near
	case len(names) == 0:
		return ": they have no tasks"
	}
	return ": their tasks are " + strings.Join(names, ", ")
}

func suggestion(name string, among []string) string {
	if c := decl.Closest(name, among); c != "" {
		return fmt.Sprintf("; did you mean %q?", c)
	}
	return ""
}

func (v *evaluation) savedPick(n node) (Set, error) {
	s, ok := v.g.Repo.Picks[n.text]
	if !ok {
		var names []string
		for k := range v.g.Repo.Picks {
			names = append(names, k)
		}
		return nil, v.fail(n, "no pick is named %q%s", n.text, suggestion(n.text, names))
	}
	if slices.Contains(v.savedPicks, n.text) {
		return nil, v.fail(n, "saved picks refer to each other in a cycle: %s → %s", strings.Join(v.savedPicks, " → "), n.text)
	}
	e, err := Parse(s.Where.Text)
	if err != nil {
		return nil, fmt.Errorf("pick %q in %s: %w", n.text, s.Where.Pos.At(), err)
	}
	inner := &evaluation{g: v.g, facts: v.facts, text: e.text, savedPicks: append(slices.Clone(v.savedPicks), n.text)}
	out, err := inner.eval(e.root)
	if err != nil {
		return nil, fmt.Errorf("pick %q in %s: %w", n.text, s.Where.Pos.At(), err)
	}
	return out, nil
}

// atom evaluates an address or a pattern over projects.
func (v *evaluation) atom(n node) (Set, error) {
	task, where, isAddr := strings.Cut(n.text, "@")
	if !isAddr {
		return v.projects(n, n.text)
	}
	if t := v.g.Task(n.text); t != nil {
		return Set{t: true}, nil
	}
	taskPat, err := glob.Parse(task)
	if err != nil {
		return nil, v.fail(n, "%s", err)
	}
	in, err := v.projects(n, where)
	if err != nil {
		return nil, err
	}
	out := v.where(func(t *graph.Task) bool { return in[t] && taskPat.MatchExact(t.Name) })
	if len(out) == 0 {
		return nil, v.fail(n, "no task %q in the projects that %q matches%s", task, where, v.others(task, in))
	}
	return out, nil
}

func (v *evaluation) projects(n node, text string) (Set, error) {
	dirs := text == "." || strings.HasPrefix(text, "./")
	pat, err := glob.Parse(text)
	if err != nil {
		return nil, v.fail(n, "%s", err)
	}
	byName := func(p *graph.Project) bool { return pat.MatchExact(p.Name) }
	byDir := func(p *graph.Project) bool { return pat.Match(p.Dir) }
	match := byName
	if dirs {
		match = byDir
	}
	if slices.ContainsFunc(v.g.Projects, match) {
		return v.where(func(t *graph.Task) bool { return match(t.Project) }), nil
	}
	switch {
	case dirs:
		return nil, v.fail(n, "no project's directory matches %q: grayloft projects lists them", text)
	case slices.ContainsFunc(v.g.Projects, byDir):
		return nil, v.fail(n, "no project is named %q; for its directory write %q", text, "./"+text)
	case slices.Contains(v.g.TaskNames(), text):
		return nil, v.fail(n, "no project is named %q; for the tasks of that name write %q", text, text+"@*")
	}
	return nil, v.fail(n, "no project is named %q%s", text, suggestion(text, v.g.ProjectNames()))
}
