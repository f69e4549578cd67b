package engine

import (
	"cmp"
	"context"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/claim"
	"grayloft.example/grayloft/internal/protocol"
)

// announcer tells other machines what this one runs, and learns what they run.
type announcer interface {
	Take(ctx context.Context, r claim.Request) claim.Answer
	End(ctx context.Context, k digest.Digest, e claim.Ending)
	Uploaded(k digest.Digest, shared bool)
	Follow(ctx context.Context, run, task string, first int) []string
	Finish(ctx context.Context)
}

// findsElsewhere announces a task before it runs. If it is not to run now, the event says
// why: it runs elsewhere, and waiting for the result is expected to be faster than running
// it; its result came in meanwhile; or, in a run of several machines, another member has
// ended it.
func (r *runner) findsElsewhere(ctx context.Context, j runJob) (ev event, is bool) {
	k := j.verdict.taken.Key
	if r.others == nil || k.IsZero() || j.verdict.Reason == key.Faster || !r.joined && !j.task.IsShareable() {
		return nil, false
	}
	last, _ := r.delivery.Work.State.Last(j.task.Addr())
	if !r.joined && !decide.IsWorthClaiming(last.Here) {
		return nil, false
	}
	a := r.others.Take(ctx, claim.Request{
		Task: j.task.Addr(), Key: k, Seconds: last.Here, Shareable: j.task.IsShareable(), Once: j.task.Reuse == decl.Never,
		Ingredients: j.verdict.taken.In.Names,
	})
	where := runsElsewhere{source: source{task: j.task, slot: j.slot}}
	switch {
	case a.Failure != "" || a.Done != nil:
		return r.endedElsewhere(j, a), true
	case a.Stored:
		return where, true
	case a.Held == nil:
		return nil, false
	}
	waits, left := decide.Await(decide.Claim{Elapsed: a.Held.Elapsed, Seconds: a.Held.Seconds}, last.Here, r.fetching(j.task))
	if a.Held.Seconds == 0 && last.Here == 0 {
		left = 0 // nobody knows
	}
	where.place, where.run, where.left = cmp.Or(a.Held.Place, a.Held.Host, a.Held.Name, "another machine"), a.Held.Run, left
	return where, waits || a.Must
}

// fetching returns how long the outputs of a task are expected to take to arrive, in seconds,
// by their size when they were last made here; 0: unknown.
func (r *runner) fetching(t *graph.Task) float64 {
	list, ok := r.delivery.Work.LastListing(t)
	if !ok {
		return 0
	}
	seconds, _ := r.delivery.Blobs.Line().Fetching(list.Bytes())
	return seconds
}

// endedElsewhere is the result of a task that another member of a run of several machines
// has ended, and that is not run again.
func (r *runner) endedElsewhere(j runJob, a claim.Answer) event {
	res := &Result{Task: j.task, Picked: r.execute.Picks[j.task], Reason: j.verdict.Reason, Timing: Timing{At: r.clock.at(r.clock.now())}}
	from := source{task: j.task, slot: j.slot}
	if a.Failure != "" {
		res.Outcome, res.Message, res.LogText = decide.Failed, a.Failure, []byte(a.Failure+"\n")
		return haveResult{source: from, result: res}
	}
	res.Outcome, res.Reason = decide.Cached, ""
	res.MadeBy = &protocol.Maker{Name: a.Done.Name, Host: a.Done.Host, Place: a.Done.Place, Run: a.Done.Run}
	return haveResult{source: from, result: res, output: NewOutput(nil, digest.Digest{}, true)}
}

// follow passes on what a task printed elsewhere since the last time.
func (r *runner) follow(ctx context.Context, t *graph.Task, run string, last followed) followed {
	if last.run != run {
		last = followed{run: run} // another client runs it now
	}
	for _, line := range r.others.Follow(ctx, run, t.Addr(), last.next) {
		r.observer.Elsewhere(t, line)
		last.next++
	}
	return last
}

// announceEnd says that a task ended whose result is not uploaded under its key.
func (r *runner) announceEnd(ctx context.Context, j runJob, ev event) {
	k := j.verdict.taken.Key
	have, _ := ev.(haveResult)
	if r.others == nil || have.shared == k {
		return // the upload says it
	}
	var e claim.Ending
	if have.result != nil {
		e = claim.Ending{Outcome: have.result.Outcome, Message: have.result.Message}
	}
	r.others.End(context.WithoutCancel(ctx), k, e)
}
