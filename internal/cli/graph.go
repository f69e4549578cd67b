package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/graph"
)

func (a *app) graphCommand() *cobra.Command {
	var sel selection
	var as, of string
	c := &cobra.Command{
		Use: "graph [TASK…]", Short: "Show which project needs which, or which task depends on which",
		Example: "  grayloft graph\n  grayloft graph --of tasks test@booking\n  grayloft graph --pick 'needs(booking)' --as mermaid",
		RunE: func(cmd *cobra.Command, args []string) error {
			if as == "" {
				as = a.format
			}
			if !slices.Contains([]string{"text", "dot", "mermaid", "json"}, as) {
				return exit{exitWrong, fmt.Sprintf("grayloft: --as %q is not valid: text, dot or mermaid", as)}
			}
			if of != "projects" && of != "tasks" {
				return exit{exitWrong, fmt.Sprintf("grayloft: --of %q is not valid: projects or tasks", of)}
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
			everything := len(args) == 0 && sel.pick == "" && sel.since == "" && len(sel.files) == 0 && sel.filesFrom == ""
			d := projectDrawing(r, tasks, everything)
			if of == "tasks" {
				d = taskDrawing(r.graph.Closure(tasks))
			}
			return a.draw(d, as)
		},
	}
	sel.flags(c)
	c.Flags().StringVar(&as, "as", "", "text, dot or mermaid")
	c.Flags().StringVar(&of, "of", "projects", "projects or tasks")
	return c
}

// drawing is a graph to draw: from each node to those that it depends on.
type drawing struct {
	nodes []string // sorted
	to    map[string][]string
}

// projectDrawing takes the projects of tasks and the projects they need; if
// everything is selected, also projects without tasks.
func projectDrawing(r *repository, tasks []*graph.Task, everything bool) drawing {
	in := map[*graph.Project]bool{}
	for _, t := range tasks {
		in[t.Project] = true
		for _, q := range t.Project.NeedsAll {
			in[q] = true
		}
	}
	d := drawing{to: map[string][]string{}}
	for _, p := range r.graph.Projects {
		if !in[p] && !everything {
			continue
		}
		d.nodes = append(d.nodes, p.Name)
		for _, q := range p.Needs {
			d.to[p.Name] = append(d.to[p.Name], q.Name)
		}
		slices.Sort(d.to[p.Name])
	}
	return d
}

func taskDrawing(tasks []*graph.Task) drawing {
	d := drawing{to: map[string][]string{}}
	for _, t := range tasks {
		d.nodes = append(d.nodes, t.Addr())
		d.to[t.Addr()] = addrs(t.Dependencies)
	}
	slices.Sort(d.nodes)
	return d
}

func (a *app) draw(d drawing, as string) error {
	switch as {
	case "json":
		edges := [][2]string{}
		for _, n := range d.nodes {
			for _, m := range d.to[n] {
				edges = append(edges, [2]string{n, m})
			}
		}
		return a.json(map[string]any{"nodes": append([]string{}, d.nodes...), "edges": edges})
	case "dot":
		a.dot(d)
	case "mermaid":
		a.mermaid(d)
	default:
		a.tree(d)
	}
	return nil
}

// dot writes the DOT language (https://graphviz.org/doc/info/lang.html).
func (a *app) dot(d drawing) {
	fmt.Fprintln(a.out, "digraph {\n  rankdir=LR;\n  node [shape=box];")
	for _, n := range d.nodes {
		fmt.Fprintf(a.out, "  %s;\n", dotID(n))
		for _, m := range d.to[n] {
			fmt.Fprintf(a.out, "  %s -> %s;\n", dotID(n), dotID(m))
		}
	}
	fmt.Fprintln(a.out, "}")
}

func dotID(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// mermaid writes a Mermaid flowchart (https://mermaid.js.org/syntax/flowchart.html).
func (a *app) mermaid(d drawing) {
	id := map[string]string{}
	fmt.Fprintln(a.out, "flowchart LR")
	for i, n := range d.nodes {
		id[n] = fmt.Sprintf("n%d", i)
		fmt.Fprintf(a.out, "  %s[\"%s\"]\n", id[n], strings.ReplaceAll(n, `"`, "#quot;"))
	}
	for _, n := range d.nodes {
		for _, m := range d.to[n] {
			fmt.Fprintf(a.out, "  %s --> %s\n", id[n], id[m])
		}
	}
}

// tree writes each node below its dependents, starting with nodes that nothing
// depends on. A node that was already shown with its subtree is only named
// again.
func (a *app) tree(d drawing) {
	below := map[string]bool{}
	for _, n := range d.nodes {
		for _, m := range d.to[n] {
			below[m] = true
		}
	}
	shown := map[string]bool{}
	var walk func(n, lead, lines string)
	walk = func(n, lead, lines string) {
		text := lead + n
		again := shown[n] && len(d.to[n]) > 0
		if again {
			text += a.soft(" …")
		}
		fmt.Fprintln(a.out, fit(text, a.width()))
		if shown[n] {
			return
		}
		shown[n] = true
		for i, m := range d.to[n] {
			if i == len(d.to[n])-1 {
				walk(m, lines+"└─ ", lines+"   ")
			} else {
				walk(m, lines+"├─ ", lines+"│  ")
			}
		}
	}
	for _, n := range d.nodes {
		if !below[n] {
			walk(n, "", "")
		}
	}
	if len(d.nodes) == 0 {
		fmt.Fprintln(a.out, "Nothing to draw: no project was selected.")
	}
}
