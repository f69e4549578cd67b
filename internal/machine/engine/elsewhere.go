package engine

import (
	"cmp"
	"context"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/claim"
	"grayloft.example/grayloft/internal/protocol"
)

// findsElsewhere claims a task before it runs. It tells where it runs already, if waiting
// for the result is expected to be faster than running it; nowhere, if the result came in
// meanwhile.
func (r *runner) findsElsewhere(ctx context.Context, j runJob) (where runsElsewhere, is bool) {
	where.source = source{task: j.task, slot: j.slot}
	k := j.verdict.taken.Key
	if r.claims == nil || k.IsZero() || !j.task.IsShareable() || j.verdict.Reason == key.Faster {
		return where, false
	}
	last, _ := r.delivery.Work.State.Last(j.task.Addr())
	if !decide.IsWorthClaiming(last.Here) {
		return where, false
	}
	a := r.claims.Take(ctx, claim.Request{Task: j.task.Addr(), Key: k, Seconds: last.Here})
	switch {
	case a.Stored:
		return where, true
	case a.Held == nil:
		return where, false
	}
	waits, left := decide.Await(decide.Claim{Elapsed: a.Held.Elapsed, Seconds: a.Held.Seconds}, last.Here, 0)
	if a.Held.Seconds == 0 && last.Here == 0 {
		left = 0 // nobody knows
	}
	where.place, where.run, where.left = cmp.Or(a.Held.Place, a.Held.Host, a.Held.Name, "another machine"), a.Held.Run, left
	return where, waits
}

// follow passes on what a task printed elsewhere since the last time.
func (r *runner) follow(ctx context.Context, t *graph.Task, run string, last followed) followed {
	if last.run != run {
		last = followed{run: run} // another client runs it now
	}
	last.next = r.claims.Follow(ctx, run, t.Addr(), last.next, func(line string) { r.observer.Elsewhere(t, line) })
	return last
}

// endClaim ends the claim of a task whose result is not uploaded under the claimed key.
func (r *runner) endClaim(ctx context.Context, j runJob, ev event) {
	k := j.verdict.taken.Key
	have, _ := ev.(haveResult)
	if r.claims == nil || have.shared == k {
		return // the upload ends it
	}
	end := protocol.ClaimUnshared
	if have.result != nil && have.result.Outcome != decide.Ran {
		end = protocol.ClaimFailed
	}
	r.claims.End(context.WithoutCancel(ctx), k, end)
}
