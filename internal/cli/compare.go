package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) compareCommand() *cobra.Command {
	var f runFlags
	var task string
	c := &cobra.Command{
		Use: "compare A B", Short: "Show the differences between the tasks of two runs",
		Long: "Compares two runs task by task: which keys differ, and in which ingredient. A and B are the ids of runs\n" +
			"(or prefixes of them) in this checkout or on the service. With --task they may also be keys, places or\n" +
			"people, and every difference of that task is listed.",
		Example: "  grayloft compare 06h0fmed 06h0fq2a\n  grayloft compare --task test@fares brenna ci",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return wrong("compare needs two runs; grayloft history lists those of this checkout")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.compare(cmd.Context(), f, task, args[0], args[1])
		},
	}
	c.Flags().StringVar(&task, "task", "", "compare only this task, ingredient by ingredient")
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
	return c
}

func (a *app) compare(ctx context.Context, f runFlags, task, one, two string) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	s, err := a.open(ctx, r, f.offline)
	if err != nil {
		return err
	}
	defer s.Close()
	s.watchedBy(a.SilentView())
	archive, err := s.archive()
	if err != nil {
		return err
	}
	if task == "" {
		return a.compareRuns(ctx, archive, one, two)
	}
	t, err := a.oneTask(ctx, r, "compare", task)
	if err != nil {
		return err
	}
	return a.compareTask(ctx, s, archive, t.Addr(), one, two)
}

func (a *app) compareTask(ctx context.Context, s *session, archive *inspect.Archive, task, one, two string) error {
	was, err := archive.Find(ctx, task, one)
	if err != nil {
		return err
	}
	is, err := archive.Find(ctx, task, two)
	if err != nil {
		return err
	}
	commits := []string{was.Commit, is.Commit, "HEAD", inspect.OnDisk}
	d := inspect.Differ{Archive: archive, Repo: s.git, Earlier: commits, Later: commits}
	changes := d.Describe(ctx, key.Compare(was.Ingredients, is.Ingredients, archive.Reader(ctx)))
	if a.Format == "json" {
		return a.JSON(map[string]any{"task": task, "changes": changes, "a": referenceJSON(was), "b": referenceJSON(is)})
	}
	fmt.Fprintln(a.Out, a.Bold(task))
	for _, side := range []struct {
		mark string
		ref  inspect.Reference
	}{{"-", was}, {"+", is}} {
		fmt.Fprintln(
			a.Out,
			a.Soft(
				fmt.Sprintf(
					"%s %s, run %s of %s, key %s",
					side.mark,
					side.ref.Label,
					side.ref.Run,
					term.Clock(side.ref.At, a.now()),
					side.ref.Key.Short(),
				),
			),
		)
	}
	switch {
	case len(changes) > 0:
		a.PrintChanges(changes)
	case was.Key == is.Key && was.Listing != is.Listing && !was.Listing.IsZero() && !is.Listing.IsZero():
		fmt.Fprintln(a.Out, "\nThe keys are equal but the outputs differ: the task depends on something that it does not declare.")
	default:
		fmt.Fprintln(a.Out, "\nThere is no difference.")
	}
	return nil
}

type comparedJSON struct {
	Task   string   `json:"task"`
	A      string   `json:"a"` // outcome
	B      string   `json:"b"`
	Reason string   `json:"reason"`
	Detail []string `json:"detail"`
}

func (a *app) compareRuns(ctx context.Context, archive *inspect.Archive, one, two string) error {
	c, err := archive.CompareRuns(ctx, one, two)
	if err != nil {
		return err
	}
	list, rows := []comparedJSON{}, [][]string{}
	for _, d := range c.Differs {
		res := engine.Result{Changes: d.Changes}
		list = append(list, comparedJSON{d.Task, d.A, d.B, string(d.Reason), append([]string{}, res.Detail()...)})
		rows = append(
			rows,
			[]string{d.Task, d.A, d.B, term.OrDash(string(d.Reason)), strings.TrimPrefix(term.DescribeChanges(d.Changes), ": ")},
		)
	}
	if a.Format == "json" {
		return a.JSON(map[string]any{"a": a.runLabel(c.A), "b": a.runLabel(c.B), "same": c.Same, "tasks": list})
	}
	fmt.Fprintf(a.Out, "%s\n%s\n\n", a.Soft("- "+a.runLabel(c.A)), a.Soft("+ "+a.runLabel(c.B)))
	if len(rows) == 0 {
		fmt.Fprintf(a.Out, "%s in both, with equal keys.\n", amount.Count(c.Same, "task is", "tasks are"))
		return nil
	}
	fmt.Fprintf(a.Out, "%s different keys, %d the same.\n\n", amount.Count(len(rows), "task has", "tasks have"), c.Same)
	a.Table([]string{"task", "-", "+", "reason", "what differs"}, rows)
	return nil
}

func (a *app) runLabel(r inspect.RunState) string {
	return fmt.Sprintf("run %s of %s, %s", r.ID, term.Clock(r.At, a.now()), r.Origin)
}
