package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
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
				return exit{exitWrong, "grayloft: compare needs two runs; grayloft history lists those of this checkout"}
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
	e, client, err := a.engine(ctx, r, f)
	if err != nil {
		return err
	}
	defer e.State.Close()
	e.Observer = &plainView{a: a, out: a.out, logs: "none", quiet: true}
	ps, err := a.openPast(ctx, e, client)
	if err != nil {
		return err
	}
	if task != "" {
		t, err := a.oneTask(ctx, r, "compare", task)
		if err != nil {
			return err
		}
		return a.compareTask(ps, r, t.Addr(), one, two)
	}
	return a.compareRuns(ps, one, two)
}

func (a *app) compareTask(ps *past, r *repository, task, one, two string) error {
	was, err := ps.find(task, one)
	if err != nil {
		return err
	}
	is, err := ps.find(task, two)
	if err != nil {
		return err
	}
	places := []string{was.Commit, is.Commit, "HEAD", onDisk}
	d := differ{ps, r, places, places}
	changes := d.all(key.Compare(was.in, is.in, ps.read))
	if a.format == "json" {
		return a.json(map[string]any{
			"task": task, "changes": changes,
			"a": pastKeyJSON{pastJSON{was.Run, was.At.UTC()}, was.Key.String(), was.Label},
			"b": pastKeyJSON{pastJSON{is.Run, is.At.UTC()}, is.Key.String(), is.Label},
		})
	}
	fmt.Fprintln(a.out, a.bold(task))
	for _, side := range []struct {
		mark string
		ref  reference
	}{{"-", was}, {"+", is}} {
		fmt.Fprintln(a.out, a.soft(fmt.Sprintf("%s %s, run %s of %s, key %s", side.mark, side.ref.Label, side.ref.Run, clock(side.ref.At, a.now()), side.ref.Key.Short())))
	}
	switch {
	case len(changes) > 0:
		a.printChanges(changes)
	case was.Key == is.Key && was.Listing != is.Listing && !was.Listing.IsZero() && !is.Listing.IsZero():
		fmt.Fprintln(a.out, "\nThe keys are equal but the outputs differ: the task depends on something that it does not declare.")
	default:
		fmt.Fprintln(a.out, "\nThere is no difference.")
	}
	return nil
}

// side is one of two runs that are compared: the state of each of its tasks.
type side struct {
	label string
	tasks map[string]sideTask
}

type sideTask struct {
	outcome     string
	key         digest.Digest
	ingredients digest.Digest
}

func (p *past) side(of string) (side, error) {
	want := strings.ToLower(of)
	for i, run := range p.runs {
		if !strings.HasPrefix(run.ID, want) {
			continue
		}
		s := side{fmt.Sprintf("run %s of %s, here", run.ID, clock(run.At, p.a.now())), map[string]sideTask{}}
		for _, older := range p.runs[i:] { // a task that was current was made by an earlier run
			for _, x := range older.Tasks {
				if _, have := s.tasks[x.Task]; have || x.Key.IsZero() {
					continue
				}
				outcome := x.Outcome
				if older.ID != run.ID {
					outcome = string(decide.Current)
				}
				s.tasks[x.Task] = sideTask{outcome, x.Key, x.Ingredients}
			}
		}
		return s, nil
	}
	if p.client == nil {
		return side{}, exit{exitFailed, fmt.Sprintf("grayloft: no remembered run of this checkout starts with %q: grayloft history lists them", of)}
	}
	d, err := p.client.Run(p.ctx, of)
	if err != nil {
		return side{}, exit{exitFailed, fmt.Sprintf("grayloft: neither this checkout nor the service knows a run %q: %v", of, err)}
	}
	s := side{fmt.Sprintf("run %s of %s, %s at %s", d.ID, clock(d.Started, p.a.now()), d.Name, d.Place), map[string]sideTask{}}
	for _, x := range d.Records {
		s.tasks[x.Task] = sideTask{outcome: x.Outcome, key: x.Key}
	}
	return s, nil
}

// differing returns the tasks of two sides whose keys differ, sorted.
func differing(one, two side) []string {
	var out []string
	for task, x := range one.tasks {
		if y, ok := two.tasks[task]; ok && x.key != y.key {
			out = append(out, task)
		}
	}
	slices.Sort(out)
	return out
}

// complete looks up the ingredients of those tasks of which the service knows
// only the key.
func (p *past) complete(s side, tasks []string) {
	var ask []protocol.Query
	for _, t := range tasks {
		if s.tasks[t].ingredients.IsZero() {
			ask = append(ask, protocol.Query{Task: t, Key: s.tasks[t].key})
		}
	}
	if len(ask) == 0 || p.client == nil {
		return
	}
	entries, err := p.client.Lookup(p.ctx, ask)
	if err != nil {
		return // already reported; these tasks stay without ingredients
	}
	of := map[digest.Digest]digest.Digest{}
	for _, e := range entries {
		of[e.Key] = e.Ingredients
	}
	for _, q := range ask {
		x := s.tasks[q.Task]
		x.ingredients = of[q.Key]
		s.tasks[q.Task] = x
	}
}

type comparedJSON struct {
	Task   string   `json:"task"`
	A      string   `json:"a"` // outcome
	B      string   `json:"b"`
	Reason string   `json:"reason"`
	Detail []string `json:"detail"`
}

func (a *app) compareRuns(ps *past, one, two string) error {
	was, err := ps.side(one)
	if err != nil {
		return err
	}
	is, err := ps.side(two)
	if err != nil {
		return err
	}
	tasks := differing(was, is)
	ps.complete(was, tasks)
	ps.complete(is, tasks)
	list, rows, same := []comparedJSON{}, [][]string{}, 0
	for task := range was.tasks {
		if y, ok := is.tasks[task]; ok && y.key == was.tasks[task].key {
			same++
		}
	}
	for _, task := range tasks {
		x, y := was.tasks[task], is.tasks[task]
		reason, changes := ps.setApart(x.ingredients, y.ingredients)
		res := engine.Result{Changes: changes}
		list = append(list, comparedJSON{task, x.outcome, y.outcome, string(reason), append([]string{}, res.Detail()...)})
		rows = append(rows, []string{task, x.outcome, y.outcome, orDash(string(reason)), strings.TrimPrefix(some(changes), ": ")})
	}
	if a.format == "json" {
		return a.json(map[string]any{"a": was.label, "b": is.label, "same": same, "tasks": list})
	}
	fmt.Fprintf(a.out, "%s\n%s\n\n", a.soft("- "+was.label), a.soft("+ "+is.label))
	if len(rows) == 0 {
		fmt.Fprintf(a.out, "%s in both, with equal keys.\n", counted(same, "task is", "tasks are"))
		return nil
	}
	fmt.Fprintf(a.out, "%s different keys, %d the same.\n\n", counted(len(rows), "task has", "tasks have"), same)
	a.table([]string{"task", "-", "+", "reason", "what differs"}, rows)
	return nil
}

// setApart returns the first reason by which two lists of ingredients differ.
func (p *past) setApart(was, is digest.Digest) (key.Reason, []key.Change) {
	one, err := p.ingredients(reference{}, was)
	if err != nil {
		return "", nil
	}
	two, err := p.ingredients(reference{}, is)
	if err != nil {
		return "", nil
	}
	return key.First(key.Compare(one.in, two.in, p.read))
}
