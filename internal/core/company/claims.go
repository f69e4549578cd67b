package company

import "grayloft.example/grayloft/internal/core/decide"

// claimOf is what is claimed.
type claimOf struct {
	shelf string
	key   Key
}

// claim is a task that a machine runs, and that others may wait for.
type claim struct {
	of      claimOf
	began   float64
	seconds float64 // that it is expected to take; 0: unknown
	ended   bool
	waiting []func(shared bool)
}

// renewEach is how often a claim is renewed, in seconds.
const renewEach = 10

// announce claims a task that is about to run.
func (r *Run) announce(x *item) {
	w, m := r.w, r.Machine
	expected := w.took[x.Task] // the service knows it from the newest result
	if m.ran[x.Task] {
		expected = x.task.Seconds * m.Pace
	}
	if w.NoClaims || w.NoShared || !x.task.Shareable || !decide.IsWorthClaiming(expected) {
		return
	}
	of := claimOf{m.Shelf, x.Key}
	if w.claims[of] != nil {
		return
	}
	x.announced = &claim{of: of, began: w.now, seconds: expected}
	w.claims[of] = x.announced
	for n := 0; n <= int(x.Seconds*m.Pace/renewEach); n++ {
		w.ask(Claim, 0)
	}
}

// conclude ends a claim.
func (w *World) conclude(c *claim, shared bool) {
	if c == nil || c.ended {
		return
	}
	c.ended = true
	delete(w.claims, c.of)
	w.ask(Claim, 0)
	for _, tell := range c.waiting {
		tell(shared)
	}
	c.waiting = nil
}

// waitsFor tells whether a task waits for another machine that runs it. It takes no slot.
func (r *Run) waitsFor(x *item) bool {
	w, m := r.w, r.Machine
	if w.NoClaims || w.NoShared || !x.task.Shareable || r.NoReuse {
		return false
	}
	var c *claim
	for _, s := range m.Reads {
		if c = w.claims[claimOf{s, x.Key}]; c != nil {
			break
		}
	}
	if c == nil {
		return false
	}
	here := 0.0
	if m.ran[x.Task] {
		here = x.task.Seconds * m.Pace
	}
	elapsed := w.now - c.began
	wait, left := decide.Await(decide.Claim{Elapsed: elapsed, Seconds: c.seconds}, here, m.Delay+float64(x.task.Bytes)/m.Rate)
	if !wait {
		return false
	}
	r.Totals.Waits++
	began, done := w.now, false
	again := func(shared bool) {
		if done {
			return
		}
		done = true
		for range int(w.now - began) { // it asks once a second
			w.ask(Claim, 0)
		}
		if shared {
			r.Totals.Results++
		}
		r.ready(x)
		r.fill()
	}
	c.waiting = append(c.waiting, func(shared bool) { w.After(0, func() { again(shared) }) })
	w.After(max(0, decide.Overdue*(elapsed+left)-elapsed)+0.001, func() { again(false) })
	return true
}
