package term

import (
	"fmt"
	"strings"
)

// Drawing is a graph to draw: from each node to those that it depends on.
type Drawing struct {
	Nodes []string // sorted
	To    map[string][]string
}

// Dot prints the DOT language (https://graphviz.org/doc/info/lang.html).
func (sc *Screen) Dot(d Drawing) {
	fmt.Fprintln(sc.Out, "digraph {\n  rankdir=LR;\n  node [shape=box];")
	for _, n := range d.Nodes {
		fmt.Fprintf(sc.Out, "  %s;\n", dotID(n))
		for _, m := range d.To[n] {
			fmt.Fprintf(sc.Out, "  %s -> %s;\n", dotID(n), dotID(m))
		}
	}
	fmt.Fprintln(sc.Out, "}")
}

func dotID(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Mermaid prints a Mermaid flowchart (https://mermaid.js.org/syntax/flowchart.html).
func (sc *Screen) Mermaid(d Drawing) {
	id := map[string]string{}
	fmt.Fprintln(sc.Out, "flowchart LR")
	for i, n := range d.Nodes {
		id[n] = fmt.Sprintf("n%d", i)
		fmt.Fprintf(sc.Out, "  %s[\"%s\"]\n", id[n], strings.ReplaceAll(n, `"`, "#quot;"))
	}
	for _, n := range d.Nodes {
		for _, m := range d.To[n] {
			fmt.Fprintf(sc.Out, "  %s --> %s\n", id[n], id[m])
		}
	}
}

// Tree prints each node below its dependents, starting with nodes that nothing
// depends on. A node that was already shown with its subtree is only named
// again.
func (sc *Screen) Tree(d Drawing) {
	if len(d.Nodes) == 0 {
		fmt.Fprintln(sc.Out, "Nothing to draw: no project was selected.")
		return
	}
	below := map[string]bool{}
	for _, n := range d.Nodes {
		for _, m := range d.To[n] {
			below[m] = true
		}
	}
	t := &treePrinter{sc: sc, to: d.To, shown: map[string]bool{}}
	for _, n := range d.Nodes {
		if !below[n] {
			t.print(n, "", "")
		}
	}
}

type treePrinter struct {
	sc    *Screen
	to    map[string][]string
	shown map[string]bool
}

// print prints a node after the lines that lead to it, and its subtree.
func (t *treePrinter) print(n, lead, lines string) {
	text := lead + n
	if t.shown[n] && len(t.to[n]) > 0 {
		text += t.sc.Soft(" …")
	}
	fmt.Fprintln(t.sc.Out, Fit(text, t.sc.Width()))
	if t.shown[n] {
		return
	}
	t.shown[n] = true
	for i, m := range t.to[n] {
		if i == len(t.to[n])-1 {
			t.print(m, lines+"└─ ", lines+"   ")
		} else {
			t.print(m, lines+"├─ ", lines+"│  ")
		}
	}
}
