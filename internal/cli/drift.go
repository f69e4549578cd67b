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
)

func (a *app) driftCommand() *cobra.Command {
	f := runFlags{fetch: string(decide.FetchNeeded), jobs: runtime.NumCPU()}
	f.everything = true
	c := &cobra.Command{
		Use: "drift [TASK…]", Short: "Compare what tasks open with what they declare, and name the lines to change",
		Long: "First settles the dependencies of the tasks, as in a run. Then each task runs in the checkout while the files\n" +
			"that it opens are traced, and these are compared with its declaration. Nothing is cached.\n" +
			"Exit code 1 means that a declaration must change, for use in CI.",
		Example: "  grayloft drift\n  grayloft drift build@fares\n  grayloft drift --pick changed",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := inspect.CanTrace(); err != nil {
				return machineFault("%v", err)
			}
			var list []inspect.Traced
			err := a.apart(
				cmd.Context(),
				f,
				args,
				func(ctx context.Context, e *engine.Engine, opt engine.Options) (sum *engine.Summary, err error) {
					list, sum, err = inspect.Drift(ctx, e, opt)
					return sum, err
				},
			)
			if err != nil {
				return err
			}
			return a.reportDrift(list)
		},
	}
	f.selection.flags(c)
	f.choice.flags(c)
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
	return c
}

type driftJSON struct {
	Task     string          `json:"task"`
	Failed   string          `json:"failed,omitempty"`
	Findings []drift.Finding `json:"findings"`
}

func (a *app) reportDrift(list []inspect.Traced) error {
	out := []driftJSON{}
	parted, failed, lines := 0, 0, 0
	for _, d := range list {
		out = append(out, driftJSON{d.Task.Addr(), d.Failed, append([]drift.Finding{}, d.Findings...)})
		if len(d.Findings) > 0 {
			parted++
			lines += len(d.Findings)
		}
		if d.Failed != "" {
			failed++
		}
		if a.Format != "json" {
			a.sayDrift(d)
		}
	}
	if a.Format == "json" {
		if err := a.JSON(out); err != nil {
			return err
		}
	} else {
		switch {
		case len(list) == 0:
			fmt.Fprintln(a.Out, "Nothing to do: no task was selected.")
		case parted == 0 && failed == 0:
			fmt.Fprintf(a.Out, "%s opened exactly what was declared.\n", amount.Count(len(list), "task", "tasks"))
		default:
			text := fmt.Sprintf("%s to change in %d of %s.", amount.Count(lines, "line", "lines"), parted,
				amount.Count(len(list), "task", "tasks"))
			if failed > 0 {
				text += fmt.Sprintf(" %d failed.", failed)
			}
			fmt.Fprintln(a.Out, text)
		}
	}
	if parted+failed > 0 {
		return errFailed
	}
	return nil
}

func (a *app) sayDrift(d inspect.Traced) {
	if len(d.Findings) == 0 && d.Failed == "" {
		if a.Verbose {
			fmt.Fprintf(a.Out, "%s opens exactly what it declares\n", d.Task.Addr())
		}
		return
	}
	fmt.Fprintln(a.Out, d.Task.Addr())
	if d.Failed != "" {
		fmt.Fprintf(a.Out, "  failed: %s\n", d.Failed)
		for _, l := range tasklog.Parse(d.Log) {
			fmt.Fprintln(a.Out, "    │ "+l.Text)
		}
	}
	for _, f := range d.Findings {
		fmt.Fprintf(a.Out, "  %s\n    %s\n", f.Why, f.Advice())
	}
	fmt.Fprintln(a.Out)
}
