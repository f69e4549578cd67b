package inspect

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/execute"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// Reproduction is how the outputs of two sealed runs of a task compare.
type Reproduction struct {
	Task      *graph.Task
	Outputs   int                // of the first run
	Differ    []drift.Difference // empty: none
	Failed    string             // how a run failed; then nothing is compared
	Log       []byte             // of the failed run
	Isolation string             // what this machine enforced, in words
}

// Reproduce settles the dependencies of the picked tasks, then runs each picked
// task twice, sealed, in different directories and different seconds, and
// compares the outputs. Nothing is kept.
func Reproduce(ctx context.Context, e *engine.Engine, opt engine.Options) (out []Reproduction, sum *engine.Summary, err error) {
	sum, err = afterDependencies(ctx, e, opt, func(s *engine.Session, t *graph.Task) error {
		r, err := reproduce(ctx, s, t)
		out = append(out, r)
		return err
	})
	return out, sum, err
}

func reproduce(ctx context.Context, s *engine.Session, t *graph.Task) (Reproduction, error) {
	out := Reproduction{Task: t}
	job, err := jobOf(ctx, s, t)
	if err != nil {
		return out, err
	}
	release, err := s.Execute.Lock(ctx, t)
	if err != nil {
		return out, err
	}
	defer release()
	var lists [2]listing.List
	for i, name := range []string{"first", "second"} {
		began := time.Now()
		lists[i], err = runSealed(ctx, s, s.Execute.Stage(job, name, true), &out)
		if err != nil || out.Failed != "" {
			return out, err
		}
		if i == 0 {
			if err := untilNextSecond(ctx, began); err != nil {
				return out, err
			}
		}
	}
	out.Outputs = len(lists[0])
	out.Differ, err = drift.Differ(
		lists[0],
		lists[1],
		func(row listing.Row) ([]byte, error) { return s.Delivery.Work.Store.Read(row.Digest) },
	)
	return out, err
}

// jobOf returns the task as a job, with the outputs of its dependencies in this
// machine's cache.
func jobOf(ctx context.Context, s *engine.Session, t *graph.Task) (execute.Job, error) {
	seen, err := s.Look.Again(ctx, t, s.Outputs)
	if err != nil {
		return execute.Job{}, err
	}
	job := execute.Job{Task: withoutScratch(t), Reads: seen.Rows}
	for _, u := range t.KeyDependencies() {
		produced := s.Outputs.Get(u)
		if produced == nil { // interrupted before it was settled
			return job, fmt.Errorf("the outputs of %s are not available: %w", u.Addr(), cmp.Or(ctx.Err(), protocol.ErrGone))
		}
		list := produced.List
		if _, err := s.Delivery.Blobs.Have(ctx, transfer.Of(list)); err != nil {
			return job, fmt.Errorf("the outputs of %s are not available: %w", u.Addr(), err)
		}
		job.Upstream = append(job.Upstream, sandbox.Upstream{Task: u, List: list})
	}
	return job, nil
}

// untilNextSecond waits until a second has passed: a task that writes the time
// usually writes it in seconds.
func untilNextSecond(ctx context.Context, began time.Time) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Until(began.Add(1100 * time.Millisecond))):
		return nil
	}
}

// runSealed runs the task in a staging and returns its outputs.
func runSealed(ctx context.Context, s *engine.Session, st *sandbox.Staging, out *Reproduction) (listing.List, error) {
	defer func() { _ = st.Remove() }()
	able := st.Ability
	able.Place = false // the two runs must have different directories
	out.Isolation = able.String()
	if err := st.Begin(ctx); err != nil {
		return nil, err
	}
	ended, log := runOnce(ctx, s, out.Task, st.Dress)
	if !ended.OK() {
		out.Failed, out.Log = ended.String()+st.Hint(ended), log
		return nil, ctx.Err()
	}
	outputs := s.Delivery.Work.Outputs(out.Task)
	outputs.Tree = st.Tree()
	kept, err := outputs.Keep(nil)
	return kept.List, err
}

// withoutScratch returns the task without the files that it keeps between runs,
// by which the first run could affect the second.
func withoutScratch(t *graph.Task) *graph.Task {
	if len(t.Scratch) == 0 {
		return t
	}
	alone, declared := *t, *t.Task
	declared.Scratch = nil
	alone.Task = &declared
	return &alone
}
