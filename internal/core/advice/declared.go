package advice

import (
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// DeclaredIn returns how a graph declares a task; the zero value if the graph is
// nil or does not have it.
func DeclaredIn(g *graph.Graph, task string) Declared {
	if g == nil || g.Task(task) == nil {
		return Declared{}
	}
	t := g.Task(task)
	return Declared{
		At: lineOf(t.Pos), Reuse: string(t.Reuse), ReuseAt: lineOf(t.Decl.Reuse.Pos), ReadsAt: lineOf(t.Decl.Reads.Pos),
		HasProbes: t.ProbesGiven(), HasWrites: t.WritesGiven(), WritesNothing: t.Transparent(),
	}
}

// lineOf returns file:line; empty for a key that is not given.
func lineOf(p decl.Pos) string {
	if p.Line == 0 {
		return ""
	}
	return p.At()
}
