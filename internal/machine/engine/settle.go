package engine

import (
	"context"
	"errors"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/find"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// rules are the options of a run that decide about reuse.
type rules struct {
	picked  map[*graph.Task]bool
	noReuse bool
	fetch   decide.Fetch
}

// of returns the rules for one task, given the outputs of its dependencies.
func (r rules) of(t *graph.Task, evicted bool, outputs *Outputs) decide.Rules {
	out := decide.Rules{
		NoReuse: r.noReuse, ReuseNever: t.Reuse == decl.Never, Evicted: evicted, MayCompare: outputs.areOnDisk(t),
		Unkept: outputs.Unkept(t),
		Wanted: r.fetch == decide.FetchAll || r.fetch == decide.FetchNeeded && r.picked[t],
	}
	if u := t.WithoutWrites(); u != nil {
		out.NoWrites = u.Addr()
	}
	return out
}

// settler settles tasks by existing results.
type settler struct {
	look     *look.Looker
	find     *find.Finder
	delivery *transfer.Delivery
	outputs  *Outputs
	rules    rules
	origin   store.Origin // of entries that are fetched, without their shelf
	warn     func(sentence string)
	clock    clock
}

// clock tells the time, and the time since the start of the run.
type clock struct {
	now   func() time.Time
	began time.Time
}

func (c clock) since(t time.Time) time.Duration { return c.now().Sub(t) }
func (c clock) at(t time.Time) time.Duration    { return t.Sub(c.began) }

// settleJob is a task to settle.
type settleJob struct {
	task    *graph.Task
	evicted bool
}

// settle searches for a result, and answers with it, or with the verdict that
// the task has to run.
func (s *settler) settle(ctx context.Context, j settleJob) event {
	began := s.clock.now()
	from := source{task: j.task}
	tk, err := s.look.Ingredients(j.task, s.look.Snapshot(), s.outputs)
	if err != nil {
		return haveResult{source: from, result: s.unreadable(ctx, j.task, began, err)}
	}
	search := s.find.Search(
		find.Request{Task: j.task, Taken: tk, Rules: s.rules.of(j.task, j.evicted, s.outputs)},
	)
	for {
		d, err := search.Decide(ctx)
		if err != nil {
			return haveResult{source: from, result: s.unreadable(ctx, j.task, began, err)}
		}
		if d.Outcome == decide.Ran {
			return mustRun{from, newVerdict(d, tk, search)}
		}
		res := &Result{Task: j.task, Picked: s.rules.picked[j.task], Outcome: d.Outcome, Timing: Timing{At: s.clock.at(began)}}
		res.Digests.Key = tk.Key
		output, err := s.use(ctx, search, d, res)
		if err == nil {
			res.Timing.Took = s.clock.since(began)
			return haveResult{source: from, result: res, output: output}
		}
		if ctx.Err() != nil {
			res.Outcome = decide.Stopped
			return haveResult{source: from, result: res}
		}
		search.Discard(*d.Offer, err)
	}
}

func newVerdict(d decide.Decision, tk look.Taken, search *find.Search) verdict {
	v := verdict{Decision: d, taken: tk}
	if d.Offer != nil {
		e, _ := search.Entry(*d.Offer)
		v.notFetched = e.Listing
	}
	return v
}

// unreadable is the result of a task that cannot be settled.
func (s *settler) unreadable(ctx context.Context, t *graph.Task, began time.Time, err error) *Result {
	return unreadable(ctx, &Result{Task: t, Picked: s.rules.picked[t], Timing: Timing{At: s.clock.at(began)}}, err)
}

func unreadable(ctx context.Context, r *Result, err error) *Result {
	if errors.Is(err, context.Canceled) || ctx.Err() != nil {
		r.Outcome = decide.Stopped
		return r
	}
	r.Outcome, r.Message, r.LogText = decide.Failed, err.Error(), []byte(err.Error()+"\n")
	return r
}

// use carries out the decision to reuse a result.
func (s *settler) use(ctx context.Context, search *find.Search, d decide.Decision, res *Result) (*Output, error) {
	if d.Offer == nil {
		last, list, _ := search.Last()
		res.Digests.Listing, res.Digests.Log, res.Digests.Ingredients = last.Listing, last.Log, last.Ingredients
		res.Timing.Made = last.Took
		return NewOutput(list, last.Listing, true), nil
	}
	e, list := search.Entry(*d.Offer)
	onDisk, err := s.place(ctx, d, list, res)
	if err != nil {
		return nil, err
	}
	res.Digests.Listing, res.Digests.Log, res.Digests.Ingredients = e.Listing, e.Log, e.Ingredients
	res.Timing.Made, res.MadeBy = e.Seconds, &e.MadeBy
	if err := s.record(res); err != nil {
		return nil, err
	}
	if d.Offer.Shared {
		s.remember(e)
	}
	return NewOutput(list, e.Listing, onDisk), nil
}

// place does what the decision requires on the disk, and tells whether the disk
// then has the outputs.
func (s *settler) place(ctx context.Context, d decide.Decision, list listing.List, res *Result) (onDisk bool, err error) {
	switch {
	case d.Place:
		began := s.clock.now()
		bytes, err := s.delivery.Bring(ctx, res.Task, list)
		if err != nil {
			return false, err
		}
		res.Sharing.BytesIn = bytes
		if bytes > 0 {
			res.Outcome, res.Sharing.Cost = decide.Fetched, s.clock.since(began)
		}
		return true, nil
	case d.Tidy:
		return s.delivery.Tidy(ctx, res.Task, list)
	}
	return true, nil
}

// record notes the result in the checkout's journal.
func (s *settler) record(res *Result) error {
	return s.delivery.Work.State.Note(checkout.Record{
		Task: res.Task.Addr(), Key: res.Digests.Key, Ingredients: res.Digests.Ingredients, Listing: res.Digests.Listing,
		Log: res.Digests.Log, Run: s.delivery.Work.Run, At: s.clock.now(), Took: res.Timing.Made,
	})
}

// remember stores an entry of the shared cache in this machine's.
func (s *settler) remember(e protocol.Entry) {
	o := s.origin
	o.Shelf = e.Shelf
	if _, err := s.delivery.Work.Store.PutEntry(e, o); err != nil {
		s.warn("this machine's cache: " + err.Error())
	}
}
