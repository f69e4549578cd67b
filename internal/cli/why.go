package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) whyCommand() *cobra.Command {
	var f runFlags
	var against string
	c := &cobra.Command{
		Use: "why TASK", Short: "Show how a task differs from its last result, another run, or another machine",
		Example: "  grayloft why test@fares\n  grayloft why test@fares --against ci",
		Args:    words(1, 1, "one task, such as test@fares"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.why(cmd.Context(), f, args[0], against)
		},
	}
	f.choice.flags(c)
	c.Flags().StringVar(
		&against,
		"against",
		"",
		"compare with a run, the start of a key, a place, or a person (default: the last result here)",
	)
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
	return c
}

type whyJSON struct {
	Task     string           `json:"task"`
	Outcome  string           `json:"outcome"` // the expected key
	Reason   *string          `json:"reason"`
	On       []string         `json:"on"`
	Key      string           `json:"key"` // empty if it depends on a dependency
	Compared pastKeyJSON      `json:"compared_with"`
	Changes  []inspect.Change `json:"changes"`
}

type pastKeyJSON struct {
	pastJSON
	Key   string `json:"key"`
	Label string `json:"label"`
}

func (a *app) why(ctx context.Context, f runFlags, name, against string) error {
	f.jobs, f.fetch = 1, string(decide.FetchNeeded)
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	if err := f.choice.apply(r); err != nil {
		return err
	}
	t, err := a.oneTask(ctx, r, "why", name)
	if err != nil {
		return err
	}
	s, err := a.open(ctx, r, f.offline)
	if err != nil {
		return err
	}
	defer s.Close()
	p, err := a.preview(ctx, s, f, []*graph.Task{t}, inspect.PlanWhole)
	if err != nil {
		return err
	}
	x := p.Of(t)
	if x.Taken == nil {
		return exit{exitFailed, "grayloft: " + x.Message}
	}
	archive, err := s.archive()
	if err != nil {
		return err
	}
	ref, err := archive.Find(ctx, t.Addr(), against)
	if against == "" && errors.Is(err, inspect.ErrForgotten) {
		return a.whyForgotten(x, ref)
	}
	if err != nil {
		return err
	}
	changes := key.Compare(ref.Ingredients, x.Taken, either(x.Parts, archive.Reader(ctx)))
	changes = slices.DeleteFunc(changes, func(c key.Change) bool {
		return c.Reason == key.Upstream && slices.Contains(term.Addresses(x.On), c.What)
	})
	d := inspect.Differ{Archive: archive, Repo: r.git, Earlier: []string{ref.Commit, "HEAD"}, Later: []string{inspect.OnDisk}}
	described := d.Describe(ctx, changes)
	if a.Format == "json" {
		return a.JSON(whyReport(x, ref, described))
	}
	a.printWhy(x, ref, described, archive)
	return nil
}

// either reads what was just computed, or else what is stored.
func either(taken, stored func(digest.Digest) ([]byte, error)) func(digest.Digest) ([]byte, error) {
	return func(d digest.Digest) ([]byte, error) {
		if text, err := taken(d); err == nil {
			return text, nil
		}
		return stored(d)
	}
}

func referenceJSON(ref inspect.Reference) pastKeyJSON {
	return pastKeyJSON{pastJSON{ref.Run, ref.At.UTC()}, ref.Key.String(), ref.Label}
}

func whyReport(x *inspect.Expected, ref inspect.Reference, changes []inspect.Change) whyJSON {
	j := whyJSON{
		Task: x.Task.Addr(), Outcome: string(x.Outcome), On: term.Addresses(x.On), Changes: changes, Compared: referenceJSON(ref),
	}
	if x.Reason != "" {
		reason := string(x.Reason)
		j.Reason = &reason
	}
	if !x.Digests.Key.IsZero() {
		j.Key = x.Digests.Key.String()
	}
	return j
}

// whyForgotten explains what can be explained without the ingredients of the last result.
func (a *app) whyForgotten(x *inspect.Expected, ref inspect.Reference) error {
	if a.Format == "json" {
		return a.JSON(whyReport(x, ref, nil))
	}
	a.printHead(x)
	fmt.Fprintf(a.Out, "What its last result (run %s of %s) was made from is no longer in the cache, so nothing can be compared.\n",
		ref.Run, term.Clock(ref.At, a.now()))
	return nil
}

func (a *app) printHead(x *inspect.Expected) {
	head := x.Task.Addr()
	switch x.Outcome {
	case decide.Ran:
		head += " would run: " + key.Legend[x.Reason]
	case decide.MayRun:
		head += " may run: it depends on the result of " + term.FirstFew(term.Addresses(x.On))
	case decide.Current:
		head += " would not run: its outputs are here and right"
	default:
		head += fmt.Sprintf(" would not run: it would be %s", x.Outcome)
		if x.MadeBy != nil {
			head += fmt.Sprintf(", %s", term.BuiltBy(x.MadeBy.Name, x.MadeBy.Place))
		}
	}
	fmt.Fprintln(a.Out, a.Bold(head+"."))
}

func (a *app) printWhy(x *inspect.Expected, ref inspect.Reference, changes []inspect.Change, archive *inspect.Archive) {
	a.printHead(x)
	fmt.Fprintln(a.Out, a.Soft(fmt.Sprintf("compared with %s (run %s of %s)", ref.Label, ref.Run, term.Clock(ref.At, a.now()))))
	if len(changes) == 0 {
		nothing := "\nThe ingredients of its key are the same."
		if len(x.On) > 0 {
			nothing = "\nThe other ingredients of its key are the same."
		}
		fmt.Fprintln(a.Out, nothing)
		a.lastReason(x.Task.Addr(), archive)
		return
	}
	a.PrintChanges(changes)
}

// lastReason says why the task ran the last time.
func (a *app) lastReason(task string, archive *inspect.Archive) {
	for _, run := range archive.Runs {
		x, ok := run.Of(task)
		if !ok || x.Reason == "" {
			continue
		}
		line := fmt.Sprintf("It last ran at %s, in run %s: %s", term.Clock(run.At, a.now()), run.ID, key.Legend[key.Reason(x.Reason)])
		if len(x.Detail) > 0 {
			line += " (" + term.FirstFew(x.Detail) + ")"
		}
		fmt.Fprintln(a.Out, line+".")
		return
	}
}
