package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/execute"
	"grayloft.example/grayloft/internal/machine/keep"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/machine/share"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// runner runs tasks and keeps their results.
type runner struct {
	look     *look.Looker
	execute  *execute.Executor
	keep     *keep.Keeper
	delivery *transfer.Delivery
	outputs  *Outputs
	readings *readings
	uploads  *share.Uploads // nil: nothing is shared
	others   announcer      // nil: nobody is told, and nobody is asked
	joined   bool           // the run is one of several machines
	earlyKey func(t *graph.Task) digest.Digest
	tell     func(event) // while the worker goes on
	observer Observer
	clock    clock
}

// runJob is a task to run.
type runJob struct {
	task     *graph.Task
	verdict  verdict
	slot     int
	queuedAt time.Duration // since the start of the run
	mayRetry bool          // the task may be settled again if its files changed
}

// run runs a task in a slot, unless its result is to be had from elsewhere.
func (r *runner) run(ctx context.Context, j runJob) event {
	if where, isElsewhere := r.findsElsewhere(ctx, j); isElsewhere {
		return where
	}
	ev := r.runHere(ctx, j)
	r.announceEnd(ctx, j, ev)
	return ev
}

// runHere runs a task under its lock in the checkout.
func (r *runner) runHere(ctx context.Context, j runJob) event {
	from := source{task: j.task, slot: j.slot}
	res := &Result{Task: j.task, Picked: r.execute.Picks[j.task], Reason: j.verdict.Reason, Changes: j.verdict.Changes}
	res.Timing = Timing{At: r.clock.at(r.clock.now()), Slot: j.slot}
	state := r.delivery.Work.State
	unlock, waited, err := state.Lock(ctx, j.task.Addr())
	if err != nil {
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	}
	defer unlock()
	if waited { // another process may have run the task
		if err := state.Reload(); err != nil {
			return haveResult{source: from, result: unreadable(ctx, res, err)}
		}
		return filesChanged{source: from}
	}
	inputs, gone, err := r.bringInputs(ctx, j.task)
	from.brought = inputs.brought
	switch {
	case err != nil:
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	case gone != nil:
		return outputsGone{from, gone}
	}
	differs, changed, done, err := r.readings.read(ctx, j.task)
	inputs.changed = changed
	defer done()
	switch {
	case err != nil:
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	case differs != nil && j.mayRetry:
		r.delivery.Forget(differs)
		return outputsDiffer{from, differs}
	case differs != nil:
		err := fmt.Errorf("the outputs of %s keep changing: something else writes them", differs.Addr())
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	}
	return r.runWithInputs(ctx, j, from, res, inputs)
}

// seeInputs reads the files of a task again, if something depends on them.
func (r *runner) seeInputs(ctx context.Context, j runJob) (look.Seen, error) {
	if j.task.Reuse == decl.Never && j.task.Isolation == decl.Open {
		return look.Seen{Taken: j.verdict.taken}, nil
	}
	return r.look.Again(ctx, j.task, r.outputs)
}

// clear deletes what an earlier run of the task left in the checkout.
func (r *runner) clear(ctx context.Context, t *graph.Task) error {
	if t.Isolation == decl.Sealed {
		return nil
	}
	out := r.delivery.Work.Outputs(t)
	return errors.Join(out.Clear(ctx, r.delivery.Work.OwnFiles(t)), out.ClearReports(ctx))
}

// runWithInputs runs a task whose inputs are in place.
func (r *runner) runWithInputs(ctx context.Context, j runJob, from source, res *Result, in inputs) event {
	began := r.clock.now()
	before, err := r.seeInputs(ctx, j)
	if err != nil {
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	}
	res.Ran = &Execution{Waited: res.Timing.At - j.queuedAt, Hashing: r.clock.since(began)}
	if before.Key != j.verdict.taken.Key && j.mayRetry {
		r.look.Refresh(ctx) // there is another key, and perhaps a result for it
		return filesChanged{from, true}
	}
	if err := r.clear(ctx, j.task); err != nil {
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	}
	last, compared := r.delivery.Work.State.Last(j.task.Addr())
	r.observer.Started(j.task, res.Timing.At, j.slot)
	go r.keep.Identity.Maker() // asks git, while the task runs
	ran, err := r.execute.Run(ctx, execute.Job{Task: j.task, Reads: before.Rows, Upstream: in.upstream})
	if errors.Is(err, sandbox.ErrChanged) && j.mayRetry {
		r.look.Refresh(ctx)
		return filesChanged{from, true}
	}
	if err != nil {
		return haveResult{source: from, result: unreadable(ctx, res, err)}
	}
	defer ran.Remove()
	if ran.Ended.OK() { // otherwise nothing new may start
		r.tell(processEnded{from})
	}
	keeping := r.clock.now()
	kept := r.keep.Keep(ctx, keep.Made{Task: j.task, Before: before, Run: ran, Unkept: r.outputs.Unkept(j.task), Upstream: in.changed,
		Again: j.verdict.Reason == key.NoReuse, Last: last}, r.outputs)
	res.Ran.Hashing += r.clock.since(keeping)
	r.describe(j, res, ran, kept)
	if compared && !last.Failed {
		res.Ran.Compared = last.Run
		res.Ran.SameOutputs = kept.Outcome == decide.Ran && kept.Unkept == "" && last.Listing == kept.Record.Listing
	}
	if kept.Outcome != decide.Ran {
		return haveResult{source: from, result: res}
	}
	have := haveResult{source: from, result: res, output: outputOf(kept)}
	if r.share(j.task, kept) {
		have.shared = kept.Record.Key
	}
	return have
}

// outputOf returns the output of a task that ran. If it could not be kept, it has no digest.
func outputOf(kept keep.Kept) *Output {
	if kept.Unkept != "" {
		return &Output{Unkept: kept.Unkept, OnDisk: true}
	}
	return NewOutput(kept.List, kept.Record.Listing, true)
}

// describe fills in the result of a task that ran.
func (r *runner) describe(j runJob, res *Result, ran execute.Result, kept keep.Kept) {
	res.Outcome, res.Message, res.Drift, res.LogText = kept.Outcome, kept.Message, ran.Findings, ran.Log
	res.Digests = Digests{j.verdict.taken.Key, kept.Record.Listing, kept.Record.Log, kept.Record.Ingredients}
	res.Ran.Refused = kept.Outcome == decide.Ran && (kept.Refused || kept.Unkept != "")
	res.Ran.Attempt, res.Ran.Cases = ran.Attempt, kept.Cases
	if kept.Outcome == decide.Failed {
		res.Ran.Evidence = kept.Evidence
	}
	res.Timing.Made, res.Timing.Took = ran.Seconds, r.clock.now().Sub(r.clock.began)-res.Timing.At
	if j.verdict.Reason != key.Faster || kept.Outcome != decide.Ran {
		return
	}
	res.Message = joinSentences(DescribeChoice(j.verdict.Choice), res.Message)
	if kept.Record.Listing != j.verdict.notFetched {
		r.fetchFromNowOn(j.task)
	}
}

// DescribeChoice describes the comparison of running and fetching.
func DescribeChoice(c decide.Choice) string {
	return fmt.Sprintf(
		"running it takes about %.0f s here, fetching its %.1f MB about %.0f s",
		c.Running,
		float64(c.Bytes)/1e6,
		c.Fetching,
	)
}

func joinSentences(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// fetchFromNowOn records that a task that was run instead of being fetched gave
// different outputs, so that this never happens again.
func (r *runner) fetchFromNowOn(t *graph.Task) {
	state := r.delivery.Work.State
	last, _ := state.Last(t.Addr())
	last.Fetch = true
	if err := state.Note(last); err != nil {
		r.observer.Warn(err.Error())
	}
	r.observer.Warn(
		fmt.Sprintf(
			"%s was run because that was faster than fetching, but gave different outputs than the "+
				"shared result: it depends on something that it does not declare, and is fetched from now on",
			t.Addr(),
		),
	)
}

// share uploads a result, if it can be shared.
func (r *runner) share(t *graph.Task, kept keep.Kept) bool {
	if kept.Share == nil || r.uploads == nil || !t.IsShareable() {
		return false
	}
	e := *kept.Share
	e.EarlyKey = r.earlyKey(t)
	r.uploads.Add(e, transfer.Of(kept.List))
	return true
}

// inputs are the outputs of dependencies that a task needs.
type inputs struct {
	upstream []sandbox.Upstream
	brought  []*transfer.Brought
	changed  func() string // says what of them in the checkout was touched since; nil: the task sees copies
}

// bringInputs puts the outputs of dependencies onto the disk; for a sealed task,
// into this machine's cache. Gone is a dependency whose outputs are no longer
// available.
func (r *runner) bringInputs(ctx context.Context, t *graph.Task) (in inputs, gone *graph.Task, err error) {
	for _, u := range t.KeyDependencies() {
		out := r.outputs.Get(u)
		if out == nil {
			continue
		}
		if out.Unkept != "" {
			if t.Isolation == decl.Sealed {
				return in, nil, fmt.Errorf("the outputs of %s could not be kept (%s), and a sealed task would see none of them",
					u.Addr(), out.Unkept)
			}
			continue
		}
		in.upstream = append(in.upstream, sandbox.Upstream{Task: u, List: out.List})
		if t.Isolation == decl.Sealed {
			_, err = r.delivery.Blobs.Have(ctx, transfer.Of(out.List))
		} else if !out.OnDisk {
			var b *transfer.Brought
			if b, err = r.delivery.Deliver(ctx, u, out.List); b != nil {
				in.brought = append(in.brought, b)
			}
		}
		if ctx.Err() != nil {
			return in, nil, ctx.Err()
		}
		if isGone(err) || err != nil && t.Isolation == decl.Sealed {
			return in, u, nil
		}
		if err != nil {
			return in, nil, err
		}
	}
	return in, nil, nil
}

func isGone(err error) bool {
	return errors.Is(err, protocol.ErrGone) || errors.Is(err, protocol.ErrDown) || errors.Is(err, outputs.ErrRefused)
}
