// Package translate finds the task that does what an old command did: a script of a
// package manifest, a target of a Makefile, a command of a toolchain, or a script with
// its variables. It compares what the command runs with what the tasks run, and says
// nothing rather than something wrong. It runs nothing.
package translate

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Repo is a repository with the files that old commands run.
type Repo struct {
	Graph *graph.Graph
	Files []string                 // from the root, sorted
	Read  func(name string) string // the text of a file; empty if there is none
	Dir   string                   // where the old command is run, from the root
}

// Candidate is a task that does what a part of an old command did.
type Candidate struct {
	Task    string            `json:"task"`
	Set     map[string]string `json:"set"`     // settings that differ from their defaults
	Env     map[string]string `json:"env"`     // variables that the task passes on
	Args    []string          `json:"args"`    // for the task's command
	Because string            `json:"because"` // what the task runs
}

// Near is a task that runs something alike, and what differs.
type Near struct {
	Task string `json:"task"`
	Why  string `json:"why"`
}

// Part is one of the commands that an old command consists of.
type Part struct {
	Text       string      `json:"text"`
	Candidates []Candidate `json:"candidates"`
	Near       []Near      `json:"near"`
}

// Translate returns the parts of an old command with what does the same. The error says
// which part of it is no simple command.
func Translate(r *Repo, old string) ([]Part, error) {
	t := &translator{Repo: r, known: map[*graph.Task][][]step{}}
	list, err := t.parse(old, cmp.Or(r.Dir, "."))
	if err != nil {
		return nil, err
	}
	var out []Part
	for _, s := range list {
		out = append(out, t.parts(s, maxForms)...)
	}
	return out, nil
}

// parts returns the part of a step or, if no task does the same, those of the steps that
// it runs, if there are tasks for all of them.
func (t *translator) parts(s step, deep int) []Part {
	p := t.part(s)
	inner, ok := t.expand(s)
	if len(p.Candidates) > 0 || !ok || deep == 0 {
		return []Part{p}
	}
	var out []Part
	for _, one := range inner {
		out = append(out, t.parts(one, deep-1)...)
	}
	if slices.ContainsFunc(out, func(p Part) bool { return len(p.Candidates) == 0 }) {
		return []Part{p}
	}
	return out
}

// translator compares steps. It keeps the forms of what tasks run.
type translator struct {
	*Repo
	known    map[*graph.Task][][]step
	packages []scripts
	read     bool // packages were read
}

// part finds the tasks for one step.
func (t *translator) part(s step) Part {
	p := Part{Text: s.text, Candidates: []Candidate{}, Near: []Near{}}
	forms := t.forms([]step{s})
	most, nearest := 1, maxForms*2
	for _, task := range t.Graph.Tasks {
		c, d, steps := t.compare(forms, task)
		switch {
		case steps >= 0 && steps < nearest: // what runs it itself comes before what runs it through others
			nearest, p.Candidates = steps, []Candidate{c}
		case steps == nearest:
			p.Candidates = append(p.Candidates, c)
		case steps > nearest:
		case d.alike > most:
			most, p.Near = d.alike, []Near{{task.Addr(), d.says}}
		case d.alike == most:
			p.Near = append(p.Near, Near{task.Addr(), d.says})
		}
	}
	if len(p.Candidates) > 0 {
		p.Near = []Near{}
		return p
	}
	for _, n := range t.namesakes(s) {
		if !slices.ContainsFunc(p.Near, func(o Near) bool { return o.Task == n.Task }) {
			p.Near = slices.Insert(p.Near, 0, n)
		}
	}
	return p
}

// compare tells whether a task runs one of the forms of an old step, and how many scripts
// were replaced by what they run for that. If it does not, that is less than 0, and it
// returns what differs from the form that is most alike.
func (t *translator) compare(forms [][]step, task *graph.Task) (c Candidate, most difference, steps int) {
	for i, old := range forms {
		for j, own := range t.taskForms(task) {
			b := bindings{set: map[string]string{}, env: map[string]string{}}
			d, ok := b.match(old, own, task)
			if ok {
				c, d.says = t.candidate(task, b)
				d.alike = sameCommand
			}
			if ok && d.says == "" {
				if i > 0 {
					c.Because += ", as " + forms[0][0].text + " does"
				}
				return c, d, i + j
			}
			if d.alike > most.alike {
				most = d
			}
		}
	}
	return c, most, -1
}

// candidate makes a candidate of what a match found; or says why a value is not
// possible.
func (t *translator) candidate(task *graph.Task, b bindings) (c Candidate, says string) {
	c = Candidate{
		Task: task.Addr(), Set: map[string]string{}, Env: b.env, Args: append([]string{}, b.args...),
		Because: fmt.Sprintf("%s runs %s", task.Addr(), shortened(task.Decl.Run)),
	}
	for name, value := range b.set {
		s := t.Graph.Repo.Settings[name]
		if s == nil {
			return c, fmt.Sprintf("the setting %q is not declared", name)
		}
		canonical, err := s.Canonical(value)
		if err != nil {
			return c, err.Error()
		}
		if canonical != s.Default {
			c.Set[name] = canonical
		}
	}
	return c, ""
}

func oneLine(run decl.Command) string {
	return strings.Join(strings.Fields(run.String()), " ")
}

// shortened returns the beginning of what a task runs.
func shortened(run decl.Command) string {
	const most = 80
	line := []rune(oneLine(run))
	if len(line) > most {
		return string(line[:most-1]) + "…"
	}
	return string(line)
}

// namesakes returns the tasks that have the name of what a step asks for, in the
// project of its directory.
func (t *translator) namesakes(s step) []Near {
	out := []Near{}
	p := t.Graph.Containing(s.dir)
	for _, task := range t.Graph.Tasks {
		if task.Project == p && slices.Contains(s.words, task.Name) {
			out = append(
				out,
				Near{task.Addr(), fmt.Sprintf("it has the name, and runs something else: %s", shortened(task.Decl.Run))},
			)
		}
	}
	return out
}

// Commands returns the commands for candidates, one for each part: tasks with the same
// settings and without arguments share one.
func Commands(list []Candidate) []string {
	var out []string
	for i := 0; i < len(list); {
		n := i + 1
		for n < len(list) && list[i].isLike(list[n]) {
			n++
		}
		out = append(out, command(list[i:n]))
		i = n
	}
	return out
}

// isLike tells whether two tasks can be run by one command.
func (c Candidate) isLike(d Candidate) bool {
	return len(c.Args)+len(d.Args) == 0 && maps.Equal(c.Set, d.Set) && maps.Equal(c.Env, d.Env)
}

func command(list []Candidate) string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(list[0].Env)) {
		words = append(words, name+"="+Quoted(list[0].Env[name]))
	}
	words = append(words, "grayloft", "run")
	for _, c := range list {
		words = append(words, Quoted(c.Task))
	}
	for _, name := range slices.Sorted(maps.Keys(list[0].Set)) {
		words = append(words, "--set", Quoted(name+"="+list[0].Set[name]))
	}
	if len(list[0].Args) > 0 {
		words = append(words, "--")
		for _, a := range list[0].Args {
			words = append(words, Quoted(a))
		}
	}
	return strings.Join(words, " ")
}
