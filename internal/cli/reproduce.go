package cli

import (
	"context"
	"fmt"
	"runtime"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) reproduceCommand() *cobra.Command {
	f := runFlags{fetch: string(decide.FetchNeeded), jobs: runtime.NumCPU()}
	c := &cobra.Command{
		Use: "reproduce TASK…", Short: "Run tasks twice, sealed, and compare their outputs",
		Long: "First settles the dependencies of the task, as in a run. Then the task itself runs twice, each time in a\n" +
			"tree that contains only what it declares, in different directories and different seconds. Differences are\n" +
			"shown to the byte. Nothing is cached.",
		Example: "  grayloft reproduce package@booking",
		Args:    words(1, -1, "a task, such as build@fares"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.reproduce(cmd.Context(), f, args)
		},
	}
	f.choice.flags(c)
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
	return c
}

func (a *app) reproduce(ctx context.Context, f runFlags, args []string) error {
	var list []inspect.Reproduction
	err := a.apart(ctx, f, args, func(ctx context.Context, e *engine.Engine, opt engine.Options) (sum *engine.Summary, err error) {
		list, sum, err = inspect.Reproduce(ctx, e, opt)
		return sum, err
	})
	if err != nil {
		return err
	}
	return a.reportReproduction(list)
}

// apart prepares the dependencies of tasks and then does something with the
// tasks of which nothing is cached.
func (a *app) apart(
	ctx context.Context,
	f runFlags,
	args []string,
	do func(context.Context, *engine.Engine, engine.Options) (*engine.Summary, error),
) error {
	r, picked, err := a.chosen(ctx, a.load, f, args)
	if err != nil {
		return err
	}
	ctx, kill, stop := interrupts(ctx)
	defer stop()
	process.Prepare()
	s, err := a.open(ctx, r, f.offline)
	if err != nil {
		return err
	}
	defer s.Close()
	s.watchedBy(a.SilentView())
	sum, err := do(ctx, s.engine, a.options(f, picked, kill))
	switch {
	case ctx.Err() != nil:
		return errInterrupted
	case err != nil:
		return err
	case !sum.OK():
		for _, res := range sum.Results {
			if res.Outcome == decide.Failed {
				return exit{
					exitFailed,
					fmt.Sprintf(
						"grayloft: the dependency %s failed: %s\nSee grayloft log %s.",
						res.Task.Addr(),
						term.FirstLine(res.Message),
						res.Task.Addr(),
					),
				}
			}
		}
		return exit{exitFailed, "grayloft: a dependency failed"}
	}
	return nil
}

type reproductionJSON struct {
	Task        string             `json:"task"`
	Same        bool               `json:"same"`
	Outputs     int                `json:"outputs"`
	Failed      string             `json:"failed,omitempty"`
	Isolation   string             `json:"isolation"`
	Differences []drift.Difference `json:"differences"`
}

func (a *app) reportReproduction(list []inspect.Reproduction) error {
	bad := false
	out := []reproductionJSON{}
	for _, t := range list {
		bad = bad || t.Failed != "" || len(t.Differ) > 0
		out = append(
			out,
			reproductionJSON{
				t.Task.Addr(),
				t.Failed == "" && len(t.Differ) == 0,
				t.Outputs,
				t.Failed,
				t.Isolation,
				append([]drift.Difference{}, t.Differ...),
			},
		)
		if a.Format != "json" {
			a.printReproduction(t)
		}
	}
	if a.Format != "json" && len(list) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.Soft("Isolation of both runs: "+list[0].Isolation+"."))
	}
	if a.Format == "json" {
		if err := a.JSON(out); err != nil {
			return err
		}
	}
	if bad {
		return errFailed
	}
	return nil
}

func (a *app) printReproduction(t inspect.Reproduction) {
	switch {
	case t.Failed != "":
		fmt.Fprintf(a.Out, "%s failed in a sealed run: %s\n", t.Task.Addr(), t.Failed)
		for _, l := range tasklog.Parse(t.Log) {
			fmt.Fprintln(a.Out, "    │ "+l.Text)
		}
	case len(t.Differ) == 0 && t.Outputs == 0:
		fmt.Fprintf(a.Out, "%s wrote nothing in either run\n", t.Task.Addr())
	case len(t.Differ) == 0:
		fmt.Fprintf(a.Out, "%s is reproducible: %s, equal in both runs\n", t.Task.Addr(), amount.Count(t.Outputs, "output", "outputs"))
	default:
		fmt.Fprintf(
			a.Out,
			"%s is not reproducible: %d of %s differ\n",
			t.Task.Addr(),
			len(t.Differ),
			amount.Count(t.Outputs, "output", "outputs"),
		)
		for _, d := range t.Differ {
			fmt.Fprintf(a.Out, "\n  %s   %s\n", d.Path, a.Soft(d.Kind))
			for _, r := range d.Ranges {
				fmt.Fprintf(
					a.Out,
					"    bytes %d to %d\n      after    %s\n      first    %s\n      second   %s\n",
					r.From,
					max(r.From, r.To-1),
					r.Before,
					r.First,
					r.Second,
				)
			}
			if more := d.Count - len(d.Ranges); more > 0 {
				fmt.Fprintf(a.Out, "    and at %s\n", amount.Count(more, "more place", "more places"))
			}
		}
		fmt.Fprintln(
			a.Out,
			"\nThe two runs had different directories and different seconds. Usual causes are paths, the current time,\n"+
				"random values, and the order in which files are listed or tasks finish.",
		)
	}
}
