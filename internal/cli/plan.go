package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) planCommand() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use: "plan TASK…", Short: "Show what a run would do and why, without running anything",
		Long: "Shows what grayloft run would do with the same flags, and why. Probes are run, because keys need them;\n" +
			"tasks are not.",
		Example: "  grayloft plan build test\n  grayloft plan --pick affected",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, f.extra = behindDash(cmd, args)
			return a.plan(cmd.Context(), f, args)
		},
	}
	f.sharedFlags(c)
	f.workFlags(c)
	c.Flags().BoolVar(&f.noReuse, "no-reuse", false, "plan as if nothing could be reused")
	c.Flags().StringVar(&f.part, "part", "", "plan this runner's share of the tasks, such as 2/5")
	return c
}

func (a *app) plan(ctx context.Context, f runFlags, args []string) error {
	if err := f.check(); err != nil {
		return err
	}
	r, picked, err := a.chosen(ctx, a.loadAhead, f, args)
	if err != nil {
		return err
	}
	s, err := a.open(ctx, r, f.offline)
	if err != nil {
		return err
	}
	defer s.Close()
	if f.part != "" {
		if picked, err = s.part(ctx, f.part, picked); err != nil {
			return err
		}
	}
	p, err := a.preview(ctx, s, f, picked, inspect.Plan)
	if err == nil && s.client != nil {
		var archive *inspect.Archive
		if archive, err = s.archive(); err == nil {
			p.Explain(ctx, archive)
		}
	}
	switch {
	case err != nil:
		return err
	case a.Format == "json":
		return a.JSON(previewJSON(p))
	}
	a.PrintPlan(p, a.now())
	return nil
}

// planning is one of the ways to plan that package inspect has.
type planning func(context.Context, *engine.Engine, engine.Options) (*inspect.Preview, error)

// preview asks the engine what a run would do.
func (a *app) preview(ctx context.Context, s *session, f runFlags, picked []*graph.Task, plan planning) (*inspect.Preview, error) {
	ctx, kill, stop := interrupts(ctx)
	defer stop()
	s.watchedBy(a.SilentView())
	p, err := plan(ctx, s.engine, a.options(f, picked, kill))
	if err != nil && ctx.Err() != nil {
		return nil, errInterrupted
	}
	if err == nil {
		_ = s.engine.Files.Memory.Save(s.engine.State.DigestFile())
	}
	return p, err
}

type planJSON struct {
	Run     *string        `json:"run"` // always null
	OK      bool           `json:"ok"`
	Seconds float64        `json:"seconds"` // expected, with so many tasks at a time
	Tasks   []planTaskJSON `json:"tasks"`
	Totals  map[string]int `json:"totals"`
	Longest []string       `json:"longest"`
	Saved   float64        `json:"saved_seconds"`
}

type planTaskJSON struct {
	runTaskJSON
	On       []string  `json:"on"`
	Expected *float64  `json:"expected_seconds"` // from its last run; null: unknown
	Compared *pastJSON `json:"compared_with"`
	// Of a task that would or may run, or be fetched:
	Files int      `json:"files,omitempty"` // that it reads
	Reads []string `json:"reads,omitempty"` // the first of them, from the root
}

// mostReads is how many files of a task a plan names.
const mostReads = 100

type pastJSON struct {
	Run string    `json:"run"`
	At  time.Time `json:"at"`
}

func previewJSON(p *inspect.Preview) planJSON {
	out := planJSON{
		OK:      true,
		Seconds: round(p.Takes),
		Tasks:   []planTaskJSON{},
		Totals:  p.Totals(),
		Longest: term.Addresses(p.Path),
		Saved:   round(p.Saved()),
	}
	for _, x := range p.Tasks {
		j := planTaskJSON{runTaskJSON: resultJSON(&x.Result), On: term.Addresses(x.On)}
		if x.Digests.Key.IsZero() {
			j.Key = ""
		}
		if x.Seconds > 0 && (x.Outcome == decide.Ran || x.Outcome == decide.MayRun) {
			s := round(x.Seconds)
			j.Expected = &s
		}
		if x.Compared != nil {
			j.Compared = &pastJSON{x.Compared.Run, x.Compared.At.UTC()}
		}
		if x.Runs() || x.Outcome == decide.Fetched {
			j.Files, j.Reads = x.Reads(mostReads)
		}
		out.OK = out.OK && x.Outcome != decide.Failed
		out.Tasks = append(out.Tasks, j)
	}
	return out
}
