package cli

import (
	"context"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

// recording is an observer that reports a run to the service.
type recording struct{ to *remote.Recorder }

func (a *app) record(ctx context.Context, c *remote.Client, r *repository, e *engine.Engine, opt engine.Options, f runFlags, args []string) recording {
	commit, branch := r.git.Head(ctx)
	maker := e.Maker()
	return recording{remote.Record(c, protocol.Run{
		ID: opt.Run, Name: maker.Name, Host: maker.Host, Place: maker.Place, Branch: branch, Commit: commit,
		Requested: asked(f.selection, args), NoReuse: f.noReuse, Jobs: f.jobs, Tasks: len(r.graph.Closure(opt.Picked)), Started: a.now().UTC(),
	})}
}

// asked returns what the person requested, in few words.
func asked(s selection, args []string) []string {
	out := append([]string{}, args...)
	if s.pick != "" {
		out = append(out, s.pick)
	} else if s.since != "" || len(s.files) > 0 || s.filesFrom != "" {
		out = append(out, "affected")
	}
	return out
}

// past is a run for the history of this checkout: current tasks are left out,
// so that a run with nothing to do costs one short line.
func (a *app) past(ctx context.Context, r *repository, opt engine.Options, s *engine.Summary, asked []string) checkout.PastRun {
	p := checkout.PastRun{
		ID: opt.Run, At: a.now().UTC(), Asked: asked, OK: s.OK(), Interrupted: s.Interrupted, Seconds: round(s.Took.Seconds()),
		Saved: round(s.Saved()), Cost: round((s.Fetching + s.Uploading).Seconds()), Totals: s.Totals(), Tasks: []checkout.PastTask{},
	}
	for _, res := range s.Results {
		if res.Outcome == decide.Current || res.Outcome == decide.NotStarted {
			continue
		}
		t := checkout.PastTask{
			Task: res.Task.Addr(), Outcome: string(res.Outcome), Reason: string(res.Reason), Detail: res.Detail(), Message: res.Message,
			Key: res.Digests.Key, Ingredients: res.Digests.Ingredients, Listing: res.Digests.Listing, Log: res.Digests.Log, Seconds: round(res.Timing.Took.Seconds()),
		}
		if res.MadeBy != nil {
			t.MadeBy = res.MadeBy.Name + " at " + res.MadeBy.Place
		}
		p.Tasks = append(p.Tasks, t)
	}
	if len(p.Tasks) > 0 {
		p.Commit, p.Branch = r.git.Head(context.WithoutCancel(ctx))
	}
	return p
}

func (r recording) Started(t *graph.Task, at time.Duration, slot int) {
	r.to.Started(protocol.TaskStart{Task: t.Addr(), At: at.Seconds(), Slot: slot})
}

func (recording) Line(*graph.Task, string) {} // logs are recorded as a whole
func (recording) Warn(string)              {} // warnings are for the person

func (r recording) Done(res *engine.Result) {
	rec := protocol.TaskRecord{
		Task: res.Task.Addr(), Project: res.Task.Project.Name, Outcome: string(res.Outcome), Reason: string(res.Reason),
		Detail: res.Detail(), Message: res.Message, At: res.Timing.At.Seconds(), Seconds: res.Timing.Took.Seconds(), Slot: res.Timing.Slot,
		Key: res.Digests.Key, Listing: res.Digests.Listing, Log: res.Digests.Log, MadeBy: res.MadeBy, SavedSeconds: res.Saved(),
		CostSeconds: res.Sharing.Cost.Seconds(), BytesIn: res.Sharing.BytesIn, Picked: res.Picked,
	}
	for _, u := range res.Task.Dependencies {
		rec.Dependencies = append(rec.Dependencies, u.Addr())
	}
	made := res.Outcome == decide.Ran || res.Outcome == decide.Failed || res.Outcome == decide.Stopped
	r.to.Done(rec, made)
}

// finish closes the record. Sum is nil if the run could not start.
func (r recording) finish(sum *engine.Summary, took time.Duration) {
	fin := protocol.RunFinish{Seconds: took.Seconds(), Totals: map[string]int{}}
	if sum != nil {
		fin.OK, fin.Interrupted, fin.Totals, fin.BytesOut = sum.OK(), sum.Interrupted, sum.Totals(), sum.BytesOut
		fin.SavedSeconds, fin.CostSeconds = sum.Saved(), (sum.Fetching + sum.Uploading).Seconds()
		for _, res := range sum.Results {
			fin.BytesIn += res.Sharing.BytesIn
		}
	}
	r.to.Finish(fin)
}
