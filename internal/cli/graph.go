package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) graphCommand() *cobra.Command {
	var sel selection
	var as, of string
	c := &cobra.Command{
		Use: "graph [TASK…]", Short: "Show which project needs which, or which task depends on which",
		Example: "  grayloft graph\n  grayloft graph --of tasks test@booking\n  grayloft graph --pick 'needs(booking)' --as mermaid",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains([]string{"text", "dot", "mermaid"}, as) {
				return wrong("--as %q is not valid: text, dot or mermaid", as)
			}
			if of != "projects" && of != "tasks" {
				return wrong("--of %q is not valid: projects or tasks", of)
			}
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			sel.everything = true
			tasks, err := a.selected(cmd.Context(), r, sel, args)
			if err != nil {
				return err
			}
			everything := len(args) == 0 && sel.pick == "" && !sel.namesChanges()
			d := projectDrawing(r, tasks, everything)
			if of == "tasks" {
				d = taskDrawing(r.graph.Closure(tasks))
			}
			return a.draw(d, as)
		},
	}
	sel.flags(c)
	c.Flags().StringVar(&as, "as", "text", "text, dot or mermaid")
	c.Flags().StringVar(&of, "of", "projects", "projects or tasks")
	return c
}

// projectDrawing takes the projects of tasks and the projects they need; if
// everything is selected, also projects without tasks.
func projectDrawing(r *repository, tasks []*graph.Task, everything bool) term.Drawing {
	in := map[*graph.Project]bool{}
	for _, t := range tasks {
		in[t.Project] = true
		for _, q := range t.Project.NeedsAll {
			in[q] = true
		}
	}
	d := term.Drawing{To: map[string][]string{}}
	for _, p := range r.graph.Projects {
		if !in[p] && !everything {
			continue
		}
		d.Nodes = append(d.Nodes, p.Name)
		for _, q := range p.Needs {
			d.To[p.Name] = append(d.To[p.Name], q.Name)
		}
		slices.Sort(d.To[p.Name])
	}
	return d
}

func taskDrawing(tasks []*graph.Task) term.Drawing {
	d := term.Drawing{To: map[string][]string{}}
	for _, t := range tasks {
		d.Nodes = append(d.Nodes, t.Addr())
		d.To[t.Addr()] = term.Addresses(t.Dependencies)
	}
	slices.Sort(d.Nodes)
	return d
}

func (a *app) draw(d term.Drawing, as string) error {
	switch {
	case a.Format == "json":
		edges := [][2]string{}
		for _, n := range d.Nodes {
			for _, m := range d.To[n] {
				edges = append(edges, [2]string{n, m})
			}
		}
		return a.JSON(map[string]any{"nodes": append([]string{}, d.Nodes...), "edges": edges})
	case as == "dot":
		a.Dot(d)
	case as == "mermaid":
		a.Mermaid(d)
	default:
		a.Tree(d)
	}
	return nil
}
