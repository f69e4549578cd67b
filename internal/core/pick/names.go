package pick

import (
	"fmt"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/graph"
)

// NameError says that a name on the command line selects no task.
type NameError struct {
	Name    string
	Message string
	Unknown bool // nothing in the repository has this name
}

func (e *NameError) Error() string { return "grayloft: " + e.Message }

// ByName returns the tasks that names select. An address (build@fares, where
// both halves may be patterns) selects tasks of any project. A bare name selects
// the tasks of the project that contains here, a directory given from the root;
// at the root, or with a pick, those of all projects. If among is not nil, only
// its tasks are returned. Errors are [*NameError], [*Error] or an invalid
// pattern.
func ByName(g *graph.Graph, among Set, here string, names []string) (Set, error) {
	within := g.Containing(here)
	if here == "" || within != nil && within.Dir == "." {
		within = nil
	}
	out := Set{}
	for _, name := range names {
		var found []*graph.Task
		var err error
		if strings.Contains(name, "@") {
			found, err = byAddress(g, among, name)
		} else {
			found, err = byBareName(g, among, within, name)
		}
		if err != nil {
			return nil, err
		}
		for _, t := range found {
			out[t] = true
		}
	}
	return out, nil
}

func byAddress(g *graph.Graph, among Set, address string) ([]*graph.Task, error) {
	e, err := Parse("\"" + address + "\"")
	if err != nil {
		return nil, err
	}
	set, err := e.Eval(g, Facts{})
	if err != nil {
		return nil, err
	}
	var out []*graph.Task
	for t := range set {
		if among == nil || among[t] {
			out = append(out, t)
		}
	}
	return out, nil
}

func byBareName(g *graph.Graph, among Set, within *graph.Project, name string) ([]*graph.Task, error) {
	pat, err := glob.Parse(name)
	if err != nil {
		if g.Meant(name) != nil {
			err = unselected(g, within, name, false)
		}
		return nil, err
	}
	var out []*graph.Task
	known := false
	for _, t := range g.Tasks {
		if !pat.MatchExact(t.Name) {
			continue
		}
		known = true
		if among[t] || among == nil && (within == nil || t.Project == within) {
			out = append(out, t)
		}
	}
	if known && (len(out) > 0 || among != nil) {
		return out, nil
	}
	return nil, unselected(g, within, name, known)
}

// unselected explains why a bare name selects nothing.
func unselected(g *graph.Graph, within *graph.Project, name string, known bool) error {
	if known {
		return &NameError{
			name,
			fmt.Sprintf(
				"project %q, in the current directory, has no task %q; for the tasks of all projects write %q",
				within.Name,
				name,
				name+"@*",
			),
			false,
		}
	}
	if p := g.Project(name); p != nil {
		example := "build@" + p.Name
		if len(p.Tasks) > 0 {
			example = p.Tasks[0].Addr()
		}
		return &NameError{
			name,
			fmt.Sprintf("%q is a project, not a task: write --pick %s, or one of its tasks, such as %s", name, name, example),
			false,
		}
	}
	msg := fmt.Sprintf("no task is named %q", name)
	if t := g.Meant(name); t != nil {
		return &NameError{name, msg + fmt.Sprintf("; did you mean %q?", t.Addr()), true}
	}
	if c := decl.Closest(name, g.TaskNames()); c != "" {
		return &NameError{name, msg + fmt.Sprintf("; did you mean %q?", c), true}
	}
	return &NameError{name, msg + ": " + Names(g), true}
}

// Names is a clause about the names of all tasks.
func Names(g *graph.Graph) string {
	if len(g.Tasks) == 0 {
		return "the repository declares no tasks; " + HowToDeclare
	}
	return "the names are " + strings.Join(g.TaskNames(), ", ")
}

// HowToDeclare says what to do in a repository without tasks.
const HowToDeclare = "add a " + decl.ProjectFile + " with tasks to a directory that matches [repo] projects in " + decl.RootFile
