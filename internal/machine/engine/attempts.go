package engine

import (
	"context"
	"fmt"
	"slices"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/process"
)

// cameOutDifferent remembers of a task that was run instead of being fetched,
// and came out different from what is shared, never to be run for that reason
// again.
func (r *run) cameOutDifferent(t *graph.Task) {
	last, _ := r.State.Last(t.Addr())
	last.Fetch = true
	r.noteDown(last)
	r.Observer.Warn(fmt.Sprintf("%s was run because that was quicker than fetching it, and came out different from what is shared: it depends on something that it does not declare, and is fetched from now on", t.Addr()))
}

// attempts runs the task's command, and again where it failed and may be
// tried again.
func (r *run) attempts(ctx context.Context, t *graph.Task, log *tasklog.Log, out *checkout.Outputs, res *Result, h held) (ended process.Result, err error) {
	release, err := r.lockNames(ctx, t)
	if err != nil {
		return ended, err
	}
	defer release()
	for n := 0; ; n++ {
		if err := h.begin(ctx); err != nil {
			return ended, err
		}
		c := r.command(t, log)
		h.dress(&c)
		start := r.Now()
		ended = process.Run(ctx, c)
		res.Made = r.Now().Sub(start).Seconds()
		if err := h.end(); err != nil {
			return ended, err
		}
		if ended.OK() && n > 0 {
			res.Message = fmt.Sprintf("passed at attempt %d of %d", n+1, t.Retries+1)
		}
		if ended.OK() || ended.Stopped || n == t.Retries {
			return ended, nil
		}
		fmt.Fprintf(log, "[Gray Loft: %s; attempt %d of %d]\n", ended, n+2, t.Retries+1)
		if h.stage == nil {
			if err := out.Clear(ctx, out.Now()); err != nil {
				return ended, err
			}
		}
	}
}

// lockNames takes the locks that the task declares, among all that run on this
// machine with this cache.
func (r *run) lockNames(ctx context.Context, t *graph.Task) (release func(), err error) {
	var held []func()
	release = func() {
		for _, f := range slices.Backward(held) {
			f()
		}
	}
	for _, name := range t.Locks { // sorted, so that two tasks never wait for each other
		unlock, err := r.Store.Lock(ctx, name)
		if err != nil {
			release()
			return nil, err
		}
		held = append(held, unlock)
	}
	return release, nil
}

// secrets returns the values of the task's secrets.
func (r *run) secrets(t *graph.Task) []string {
	var out []string
	for _, v := range t.Secrets {
		if val, ok := r.variable(v); ok {
			out = append(out, val)
		}
	}
	return out
}
