package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/core/graph"
)

func (a *app) reachCommand() *cobra.Command {
	var sel selection
	var as string
	c := &cobra.Command{
		Use: "reach [FILE…]", Short: "Show what files, or the changes since the base, can affect, and by what path",
		Example: "  grayloft reach\n  grayloft reach libs/fares/rates/summer.csv\n  grayloft reach --since main --as ci-matrix",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch as {
			case "", "text", "json", "ci-matrix":
			default:
				return exit{exitWrong, fmt.Sprintf("grayloft: --as %q is not valid: text or ci-matrix", as)}
			}
			if as == "" {
				as = a.format
			}
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			sel.files = append(sel.files, args...)
			sel.reaching = true
			return a.reach(cmd.Context(), r, sel, as)
		},
	}
	sel.changeFlags(c)
	c.Flags().StringVar(&as, "as", "", "text or ci-matrix (JSON with one job per project, for CI systems that expand a job matrix)")
	return c
}

// reached is a task that changes can affect, with the path by which they do.
type reached struct {
	task *graph.Task
	by   change.Touch  // at the start of the path
	way  []*graph.Task // from the touched task to this one
}

// ways finds, for every task that the touched ones can affect, a shortest path
// from one of them.
func ways(g *graph.Graph, touched []change.Touch) []reached {
	found := map[*graph.Task]*reached{}
	var next []*graph.Task
	for _, t := range touched {
		found[t.Task] = &reached{t.Task, t, []*graph.Task{t.Task}}
		next = append(next, t.Task)
	}
	for len(next) > 0 {
		t := next[0]
		next = next[1:]
		for _, u := range t.Dependents {
			if found[u] == nil {
				found[u] = &reached{u, found[t].by, append(slices.Clone(found[t].way), u)}
				next = append(next, u)
			}
		}
	}
	var out []reached
	for _, t := range g.Tasks {
		if r := found[t]; r != nil {
			out = append(out, *r)
		}
	}
	return out
}

func (a *app) reach(ctx context.Context, r *repository, s selection, as string) error {
	c := &changes{a: a, ctx: ctx, r: r, s: s}
	tasks, err := c.tasks()
	if err != nil {
		return err
	}
	if c.all {
		c.touched = nil
		for _, t := range tasks {
			c.touched = append(c.touched, change.Touch{Task: t, By: "everything"})
		}
	}
	list := ways(r.graph, c.touched)
	switch as {
	case "json":
		return a.json(reachJSON(list))
	case "ci-matrix":
		return a.matrix(list)
	}
	if len(s.files) > 1 && len(s.files) <= 20 && s.filesFrom == "" {
		return a.reachEach(c)
	}
	a.printReach(c, list)
	return nil
}

// reachEach explains several files one after another.
func (a *app) reachEach(c *changes) error {
	for i, f := range c.s.files {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		one := &changes{a: a, ctx: c.ctx, r: c.r, s: selection{files: []string{f}, since: c.s.since}}
		if _, err := one.tasks(); err != nil {
			return err
		}
		fmt.Fprintln(a.out, a.bold(f))
		a.printReach(one, ways(c.r.graph, one.touched))
	}
	return nil
}

func (a *app) printReach(c *changes, list []reached) {
	if len(list) == 0 {
		fmt.Fprintln(a.out, a.noReach(c))
		return
	}
	projects := projectsOf(list)
	fmt.Fprintf(a.out, "%s in %s of %d.\n\n", counted(len(list), "task", "tasks"), counted(len(projects), "project", "projects"), len(c.r.graph.Projects))
	rows := [][]string{}
	for _, x := range list {
		var way []string
		for _, t := range x.way[:len(x.way)-1] {
			way = append(way, t.Addr())
		}
		start := x.by.By
		if x.by.Through != "" {
			start += " (" + x.by.Through + ")"
		}
		rows = append(rows, []string{x.task.Addr(), strings.Join(append([]string{start}, way...), " → ")})
	}
	a.table([]string{"task", "by"}, rows)
}

// noReach explains why a file affects nothing.
func (a *app) noReach(c *changes) string {
	const nothing = "Nothing: no task reads what changed, and no declaration changed."
	paths, err := c.named()
	if err != nil || len(paths) != 1 {
		return nothing
	}
	p := paths[0]
	g := c.r.graph
	owner := g.Owner(p)
	switch w := g.Writer(p); {
	case c.touchesDeclarations(paths):
		return fmt.Sprintf("Nothing: %s contains declarations, and none of them differs from those at %s.", p, c.rev)
	case w != nil:
		return fmt.Sprintf("Nothing: %s is an output of %s. An output affects other tasks through the task that writes it: grayloft show %s", p, w.Addr(), w.Addr())
	case owner == nil:
		return fmt.Sprintf("Nothing: %s is in no project, and no task reads it with a \"repo:\" pattern.", p)
	case len(owner.Tasks) == 0:
		return fmt.Sprintf("Nothing: %s belongs to project %s, which has no tasks.", p, owner.Name)
	}
	return fmt.Sprintf("Nothing: %s belongs to project %s, and none of its tasks reads it; grayloft show %s shows what they read.", p, owner.Name, owner.Tasks[0].Addr())
}

func projectsOf(list []reached) []string {
	out := []string{}
	for _, x := range list {
		out = append(out, x.task.Project.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

type reachDocument struct {
	Projects []string            `json:"projects"`
	Tasks    []string            `json:"tasks"`
	Paths    map[string][]string `json:"paths"` // from the file, or "its declaration", to the task
}

func reachJSON(list []reached) reachDocument {
	out := reachDocument{Projects: projectsOf(list), Tasks: []string{}, Paths: map[string][]string{}}
	for _, x := range list {
		out.Tasks = append(out.Tasks, x.task.Addr())
		out.Paths[x.task.Addr()] = append([]string{x.by.By}, addrs(x.way)...)
	}
	slices.Sort(out.Tasks)
	return out
}

type matrixJob struct {
	Project string `json:"project"`
	Dir     string `json:"dir"`
	Tasks   string `json:"tasks"` // addresses separated by spaces, as run takes them
}

// matrix writes one line of JSON: a job for each affected project.
func (a *app) matrix(list []reached) error {
	jobs := []matrixJob{}
	at := map[string]int{}
	for _, name := range projectsOf(list) {
		at[name] = len(jobs)
		jobs = append(jobs, matrixJob{Project: name})
	}
	for _, x := range list {
		j := &jobs[at[x.task.Project.Name]]
		j.Dir = x.task.Project.Dir
		j.Tasks = strings.TrimPrefix(j.Tasks+" "+x.task.Addr(), " ")
	}
	b, err := json.Marshal(map[string]any{"include": jobs})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(a.out, string(b))
	return err
}
