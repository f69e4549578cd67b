package inspect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/protocol"
)

// RunState is a run that is compared with another: the state of each of its
// tasks.
type RunState struct {
	ID     string
	At     time.Time
	Origin string // where it ran, for people
	tasks  map[string]taskState
}

type taskState struct {
	outcome     string
	key         digest.Digest
	ingredients digest.Digest
}

// TaskDifference is a task whose keys differ in two runs.
type TaskDifference struct {
	Task    string
	A, B    string     // outcomes
	Reason  key.Reason // the first by which their ingredients differ; "" if they are not available
	Changes []key.Change
}

// RunComparison is two runs, compared.
type RunComparison struct {
	A, B    RunState
	Same    int              // tasks of both runs with equal keys
	Differs []TaskDifference // by task
}

// CompareRuns compares two runs, each given by the start of its id.
func (a *Archive) CompareRuns(ctx context.Context, one, two string) (RunComparison, error) {
	var c RunComparison
	var err error
	if c.A, err = a.runState(ctx, one); err != nil {
		return c, err
	}
	if c.B, err = a.runState(ctx, two); err != nil {
		return c, err
	}
	var tasks []string
	for task, x := range c.A.tasks {
		switch y, ok := c.B.tasks[task]; {
		case ok && x.key == y.key:
			c.Same++
		case ok:
			tasks = append(tasks, task)
		}
	}
	slices.Sort(tasks)
	a.askIngredients(ctx, c.A, tasks)
	a.askIngredients(ctx, c.B, tasks)
	for _, task := range tasks {
		x, y := c.A.tasks[task], c.B.tasks[task]
		d := TaskDifference{Task: task, A: x.outcome, B: y.outcome}
		d.Reason, d.Changes = a.first(ctx, x.ingredients, y.ingredients)
		c.Differs = append(c.Differs, d)
	}
	return c, nil
}

func (a *Archive) runState(ctx context.Context, id string) (RunState, error) {
	want := strings.ToLower(id)
	for i, run := range a.Runs {
		if strings.HasPrefix(run.ID, want) {
			return stateHere(a.Runs[i:]), nil
		}
	}
	if a.Service == nil {
		return RunState{}, &UnknownError{fmt.Sprintf("no remembered run of this checkout starts with %q: grayloft history lists them", id)}
	}
	d, err := a.Service.Run(ctx, id)
	if err != nil {
		return RunState{}, &ServiceError{fmt.Sprintf("no run of this checkout starts with %q", id), err}
	}
	s := RunState{d.ID, d.Started, d.Name + " at " + d.Place, map[string]taskState{}}
	for _, x := range d.Records {
		s.tasks[x.Task] = taskState{outcome: x.Outcome, key: x.Key}
	}
	return s, nil
}

// stateHere is the state after the first of these runs: a task that was current
// in it was made by an earlier one.
func stateHere(runs []checkout.PastRun) RunState {
	s := RunState{runs[0].ID, runs[0].At, "here", map[string]taskState{}}
	for i, run := range runs {
		for _, x := range run.Tasks {
			if _, have := s.tasks[x.Task]; have || x.Key.IsZero() {
				continue
			}
			outcome := x.Outcome
			if i > 0 {
				outcome = string(decide.Current)
			}
			s.tasks[x.Task] = taskState{outcome, x.Key, x.Ingredients}
		}
	}
	return s
}

// askIngredients looks up the ingredients of those tasks of which the service
// told only the key. Tasks that it does not answer for stay without.
func (a *Archive) askIngredients(ctx context.Context, s RunState, tasks []string) {
	var ask []protocol.Query
	for _, t := range tasks {
		if s.tasks[t].ingredients.IsZero() {
			ask = append(ask, protocol.Query{Task: t, Key: s.tasks[t].key})
		}
	}
	if len(ask) == 0 || a.Service == nil {
		return
	}
	entries, err := a.Service.Lookup(ctx, ask)
	if err != nil {
		return // the client has already reported it
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

// first returns the first reason by which two lists of ingredients differ.
func (a *Archive) first(ctx context.Context, was, is digest.Digest) (key.Reason, []key.Change) {
	one, err := a.ingredients(ctx, was)
	if err != nil {
		return "", nil
	}
	two, err := a.ingredients(ctx, is)
	if err != nil {
		return "", nil
	}
	return key.First(key.Compare(one, two, a.Reader(ctx)))
}
