package cli

import (
	"fmt"
	"strings"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/process"
)

// barred returns, if this client was started by a task of a run in the same checkout, a function that
// refuses the tasks whose locks that run holds until the task has ended: the task itself, and those
// whose outputs it reads. To wait for them would have no end.
func barred(g *graph.Graph, state *checkout.State, env environment.Environment) func(task string) error {
	mark, _ := env.Lookup(process.MarkVar)
	run, addr, ok := strings.Cut(mark, "/")
	caller := g.Task(addr)
	if !ok || caller == nil || !state.IsRunning(run) {
		return nil
	}
	return func(task string) error {
		switch t := g.Task(task); {
		case t == caller:
			return fmt.Errorf("%s runs this command itself, so it cannot wait for it: let the task do its work without grayloft run", task)
		case t != nil && caller.DependsOn(t):
			return fmt.Errorf("%s reads the outputs of %s while it runs this command, so they stay as they are: "+
				"add what has to run first to after", addr, task)
		}
		return nil
	}
}
