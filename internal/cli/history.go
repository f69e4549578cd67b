package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) historyCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "history [TASK]", Short: "List the runs in this checkout, or the outcomes of one task",
		Args: words(0, 1, "one task"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			state, err := checkout.Open(r.root)
			if err != nil {
				return err
			}
			defer state.Close()
			runs, err := state.History()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				t, err := a.oneTask(cmd.Context(), r, "history", args[0])
				if err != nil {
					return err
				}
				return a.taskHistory(t, runs, limit)
			}
			return a.runHistory(runs, limit)
		},
	}
	c.Flags().IntVarP(&limit, "limit", "n", 20, "maximum number, newest first")
	return c
}

func (a *app) runHistory(runs []checkout.PastRun, limit int) error {
	runs = runs[:min(len(runs), max(limit, 0))]
	if a.Format == "json" {
		return a.JSON(append([]checkout.PastRun{}, runs...))
	}
	if len(runs) == 0 {
		fmt.Fprintln(a.Out, "No run in this checkout yet: grayloft run TASK")
		return nil
	}
	rows := [][]string{}
	for _, p := range runs {
		out := "passed"
		switch {
		case p.Interrupted:
			out = "interrupted"
		case !p.OK:
			out = amount.Count(p.Totals[string(decide.Failed)], "failure", "failures")
		}
		rows = append(
			rows,
			[]string{term.Clock(p.At, a.now()), p.ID, out, term.Seconds(p.Seconds), countsOf(p.Totals), strings.Join(p.Asked, " ")},
		)
	}
	a.Table([]string{"when", "run", "outcome", "took", "tasks", "requested"}, rows)
	return nil
}

// countsOf lists the outcomes of a run: 3 ran, 12 current.
func countsOf(totals map[string]int) string {
	var out []string
	for _, o := range []decide.Outcome{decide.Failed, decide.Ran, decide.Fetched, decide.Restored, decide.Cached, decide.Current,
		decide.Blocked, decide.Stopped, decide.NotStarted} {
		if n := totals[string(o)]; n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, o))
		}
	}
	return strings.Join(out, ", ")
}

type taskPast struct {
	Run string `json:"run"`
	At  string `json:"at"`
	checkout.PastTask
}

func (a *app) taskHistory(t *graph.Task, runs []checkout.PastRun, limit int) error {
	list, rows := []taskPast{}, [][]string{}
	for _, p := range runs {
		x, ok := p.Of(t.Addr())
		if !ok || len(list) >= limit {
			continue
		}
		list = append(list, taskPast{p.ID, p.At.UTC().Format("2006-01-02T15:04:05Z"), x})
		what := x.Reason
		if len(x.Detail) > 0 {
			what += ": " + term.FirstFew(x.Detail)
		}
		if x.MadeBy != "" && what == "" {
			what = "built by " + x.MadeBy
		}
		if x.Message != "" {
			what = strings.TrimPrefix(what+"; "+term.FirstLine(x.Message), "; ")
		}
		rows = append(rows, []string{term.Clock(p.At, a.now()), p.ID, x.Outcome, term.Seconds(x.Seconds), x.Key.Short(), what})
	}
	if a.Format == "json" {
		return a.JSON(list)
	}
	if len(rows) == 0 {
		fmt.Fprintf(a.Out, "No remembered run of this checkout contains %s.\n", t.Addr())
		return nil
	}
	a.Table([]string{"when", "run", "outcome", "took", "key", "why"}, rows)
	return nil
}

// oneTask returns the single task that a name refers to.
func (a *app) oneTask(ctx context.Context, r *repository, command, name string) (*graph.Task, error) {
	tasks, err := a.selected(ctx, r, selection{}, []string{name})
	if err != nil {
		return nil, err
	}
	if len(tasks) != 1 {
		return nil, wrong(
			"%s needs exactly one task, but %q matches %d: name one of %s",
			command,
			name,
			len(tasks),
			term.FirstFew(term.Addresses(tasks)),
		)
	}
	return tasks[0], nil
}

// pastRun returns the run of this checkout whose id starts with run.
func pastRun(state *checkout.State, run string) (checkout.PastRun, error) {
	runs, err := state.History()
	if err != nil {
		return checkout.PastRun{}, err
	}
	for _, p := range runs {
		if strings.HasPrefix(p.ID, strings.ToLower(run)) {
			return p, nil
		}
	}
	return checkout.PastRun{}, wrong("no remembered run of this checkout starts with %q: grayloft history lists them", run)
}
