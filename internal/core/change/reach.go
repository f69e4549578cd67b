package change

import (
	"fmt"
	"slices"

	"grayloft.example/grayloft/internal/core/graph"
)

// Reached is a task that changes can affect, with the path by which they do.
type Reached struct {
	Task *graph.Task
	By   Touch         // at the start of the path
	Path []*graph.Task // from the touched task to this one, both included
}

// Everything is the value of By in [Touch] when all tasks count as touched.
const Everything = "everything"

// TouchAll returns all tasks as touched: for changes that cannot be determined.
func TouchAll(g *graph.Graph) []Touch {
	var out []Touch
	for _, t := range g.Tasks {
		out = append(out, Touch{Task: t, By: Everything})
	}
	return out
}

// Reach returns the touched tasks and their dependents, in graph order, each
// with a shortest path from a touched task (breadth-first search).
func Reach(g *graph.Graph, touched []Touch) []Reached {
	found := map[*graph.Task]*Reached{}
	var queue []*graph.Task
	for _, t := range touched {
		found[t.Task] = &Reached{t.Task, t, []*graph.Task{t.Task}}
		queue = append(queue, t.Task)
	}
	for len(queue) > 0 {
		t := queue[0]
		queue = queue[1:]
		for _, u := range t.Dependents {
			if found[u] == nil {
				found[u] = &Reached{u, found[t].By, append(slices.Clone(found[t].Path), u)}
				queue = append(queue, u)
			}
		}
	}
	var out []Reached
	for _, t := range g.Tasks {
		if r := found[t]; r != nil {
			out = append(out, *r)
		}
	}
	return out
}

// Projects returns the names of the projects of reached tasks, sorted.
func Projects(list []Reached) []string {
	out := []string{}
	for _, x := range list {
		out = append(out, x.Task.Project.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// WhyNothing explains why a changed file reaches no task. Base names the
// revision that declarations were compared with.
func WhyNothing(g *graph.Graph, path, base string) string {
	owner := g.Owner(path)
	switch writer := g.Writer(path); {
	case HasDeclarations(g, path):
		return fmt.Sprintf("Nothing: %s contains declarations, and none of them differs from those at %s.", path, base)
	case writer != nil:
		return fmt.Sprintf(
			"Nothing: %s is an output of %s. An output affects other tasks through the task that writes it: grayloft show %s",
			path,
			writer.Addr(),
			writer.Addr(),
		)
	case owner == nil:
		return fmt.Sprintf("Nothing: %s is in no project, and no task reads it with a \"repo:\" pattern.", path)
	case len(owner.Tasks) == 0:
		return fmt.Sprintf("Nothing: %s belongs to project %s, which has no tasks.", path, owner.Name)
	}
	return fmt.Sprintf(
		"Nothing: %s belongs to project %s, and none of its tasks reads it; grayloft show %s shows what they read.",
		path,
		owner.Name,
		owner.Tasks[0].Addr(),
	)
}
