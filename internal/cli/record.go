package cli

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

// recording is an observer that reports a run to the service. A nil recording
// reports nothing.
type recording struct{ to *remote.Recorder }

func (s *session) record(now time.Time, opt engine.Options, requested []string) *recording {
	describe := func() protocol.Run { return s.describe(now, opt, requested) }
	return &recording{remote.Record(s.client, opt.Run, describe, s.declarations)}
}

// describe says who runs what, and where.
func (s *session) describe(now time.Time, opt engine.Options, requested []string) protocol.Run {
	commit, branch := s.head()
	maker := s.engine.Maker()
	return protocol.Run{
		ID: opt.Run, Name: maker.Name, Host: maker.Host, Place: maker.Place, Branch: branch, Commit: commit,
		Requested: requested, NoReuse: opt.NoReuse, Join: opt.Join, Jobs: opt.Jobs,
		Tasks: len(s.graph.Closure(opt.Picked)), Started: now.UTC(),
	}
}

// declarations returns the repository's declarations, as they were read.
func (s *session) declarations() protocol.Graph {
	g := protocol.Graph{Base: s.graph.Repo.Name, Dirs: []string{}}
	texts := s.graph.Repo.Texts()
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		g.Files = append(g.Files, protocol.DeclFile{Path: name, Text: texts[name]})
	}
	for _, k := range s.graph.Repo.Kinds {
		if k.Template.Text != "" {
			g.Dirs = append(g.Dirs, k.Template.Text)
		}
	}
	slices.Sort(g.Dirs)
	g.Dirs = slices.Compact(g.Dirs)
	return g
}

// past is a run for the history of this checkout: current tasks are left out,
// so that a run with nothing to do costs one short line.
func (s *session) past(now time.Time, run string, sum *engine.Summary, requested []string) checkout.PastRun {
	p := checkout.PastRun{
		ID: run, At: now.UTC(), Asked: requested, OK: sum.OK(), Interrupted: sum.Interrupted, Seconds: round(sum.Took.Seconds()),
		Saved: round(
			sum.Saved(),
		), Cost: round((sum.Fetching + sum.Uploading).Seconds()), Totals: sum.Totals(), Tasks: []checkout.PastTask{},
	}
	for _, res := range sum.Results {
		if res.Outcome == decide.Current || res.Outcome == decide.NotStarted {
			continue
		}
		t := checkout.PastTask{
			Task: res.Task.Addr(), Outcome: string(res.Outcome), Reason: string(res.Reason), Detail: res.Detail(), Message: res.Message,
			Key: res.Digests.Key, Ingredients: res.Digests.Ingredients, Listing: res.Digests.Listing, Log: res.Digests.Log,
			Seconds: round(res.Timing.Took.Seconds()),
		}
		rec := recordOf(res)
		t.Key, t.Changed, t.SameOutputs = rec.Key, rec.Changed, rec.SameOutputs
		t.Saved, t.FetchSeconds, t.BytesIn = round(rec.SavedSeconds), round(rec.FetchSeconds), rec.BytesIn
		if res.MadeBy != nil {
			t.MadeBy = res.MadeBy.Name + " at " + res.MadeBy.Place
		}
		p.Tasks = append(p.Tasks, t)
	}
	if len(p.Tasks) > 0 {
		p.Commit, p.Branch = s.head()
	}
	return p
}

// Started implements [engine.Observer].
func (r *recording) Started(t *graph.Task, at time.Duration, slot int) {
	r.to.Started(protocol.TaskStart{Task: t.Addr(), At: at.Seconds(), Slot: slot})
}

// Waiting implements [engine.Observer]: a task that runs elsewhere has a record there.
func (*recording) Waiting(*graph.Task, string, float64) {}

// Elsewhere implements [engine.Observer]: the other run records it.
func (*recording) Elsewhere(*graph.Task, string) {}

// Line implements [engine.Observer].
func (r *recording) Line(t *graph.Task, line string) { r.to.Line(t.Addr(), line) }

// Warn implements [engine.Observer]: warnings are for the person.
func (*recording) Warn(string) {}

// Done implements [engine.Observer].
func (r *recording) Done(res *engine.Result) {
	rec := recordOf(res)
	var made []digest.Digest
	if res.Outcome == decide.Ran || res.Outcome == decide.Failed || res.Outcome == decide.Stopped {
		made = append(made, rec.Log)
	}
	if res.Ran != nil {
		made = append(made, res.Ran.Evidence...)
	}
	r.to.Done(rec, made...)
	if res.Ran != nil {
		r.to.Tests(rec.Task, res.Ran.Cases)
	}
}

func recordOf(res *engine.Result) protocol.TaskRecord {
	rec := protocol.TaskRecord{
		Task: res.Task.Addr(), Project: res.Task.Project.Name, Outcome: string(res.Outcome), Reason: string(res.Reason),
		Detail: res.Detail(), Message: res.Message, At: res.Timing.At.Seconds(), Seconds: res.Timing.Took.Seconds(), Slot: res.Timing.Slot,
		Key: res.Digests.Key, Listing: res.Digests.Listing, Log: res.Digests.Log, Ingredients: res.Digests.Ingredients,
		MadeBy: res.MadeBy, SavedSeconds: res.Saved(), FetchSeconds: res.Sharing.Cost.Seconds(), BytesIn: res.Sharing.BytesIn,
		Picked: res.Picked, ChangedCount: len(res.Changes),
	}
	for _, c := range res.Changes[:min(len(res.Changes), protocol.MaxChanged)] {
		rec.Changed = append(rec.Changed, cmp.Or(c.Path, c.What))
	}
	if x := res.Ran; x != nil {
		rec.RunSeconds, rec.WaitSeconds, rec.HashSeconds = res.Timing.Made, max(0, x.Waited.Seconds()), x.Hashing.Seconds()
		rec.Attempt, rec.Compared = x.Attempt, x.Compared
		if x.Compared != "" && res.Outcome == decide.Ran && !res.Task.Transparent() {
			rec.SameOutputs = &x.SameOutputs
		}
		if x.Refused {
			rec.Key, rec.SameOutputs = digest.Digest{}, nil // it says nothing about the key
		}
		rec.Tests = len(x.Cases)
		for _, c := range x.Cases {
			if c.Result == junit.Failed {
				rec.TestsFailed++
			}
		}
	}
	return rec
}

// finish closes the record. Sum is nil if the run could not start.
func (r *recording) finish(sum *engine.Summary, took time.Duration) {
	if r == nil {
		return
	}
	fin := protocol.RunFinish{Seconds: took.Seconds(), Totals: map[string]int{}}
	if sum != nil {
		fin.OK, fin.Interrupted, fin.Totals, fin.BytesOut = sum.OK(), sum.Interrupted, sum.Totals(), sum.BytesOut
		fin.Sent = sum.Sent
		fin.SavedSeconds, fin.CostSeconds = sum.Saved(), (sum.Fetching + sum.Uploading).Seconds()
		for _, res := range sum.Results {
			fin.BytesIn += res.Sharing.BytesIn
		}
	}
	r.to.Finish(fin)
}

// both passes everything to two observers.
type both [2]engine.Observer

// Started implements [engine.Observer].
func (b both) Started(t *graph.Task, at time.Duration, slot int) {
	for _, o := range b {
		o.Started(t, at, slot)
	}
}

// Waiting implements [engine.Observer].
func (b both) Waiting(t *graph.Task, place string, left float64) {
	for _, o := range b {
		o.Waiting(t, place, left)
	}
}

// Elsewhere implements [engine.Observer].
func (b both) Elsewhere(t *graph.Task, line string) {
	for _, o := range b {
		o.Elsewhere(t, line)
	}
}

// Line implements [engine.Observer].
func (b both) Line(t *graph.Task, line string) {
	for _, o := range b {
		o.Line(t, line)
	}
}

// Done implements [engine.Observer].
func (b both) Done(r *engine.Result) {
	for _, o := range b {
		o.Done(r)
	}
}

// Warn implements [engine.Observer].
func (b both) Warn(s string) {
	for _, o := range b {
		o.Warn(s)
	}
}
