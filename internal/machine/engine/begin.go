package engine

import (
	"context"
	"fmt"
	"path"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/schedule"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/process"
)

// Run settles every picked task and all that they come after. The error is
// for what kept it from beginning; failures of tasks are in the summary.
func (e *Engine) Run(ctx context.Context, opt Options) (*Summary, error) {
	r := e.newRun(opt)
	end, err := e.State.Begin(opt.Run, func(run string) { process.EndRun(run) })
	if err != nil {
		return nil, err
	}
	defer end()
	defer process.Unguard()
	r.quickly = true
	return r.all(ctx)
}

// all settles the tasks of the run.
func (r *run) all(ctx context.Context) (*Summary, error) {
	if err := r.prepare(ctx); err != nil {
		return nil, err
	}
	r.uploads = newUploads(r)
	before := r.line
	err := error(nil)
	if r.snap != nil {
		if err = r.loop(ctx); err == nil {
			r.noteQuick()
		}
		r.sayMore()
	}
	if r.line != before {
		r.Store.KeepLine(r.Service, r.line)
	}
	s := &Summary{Interrupted: ctx.Err() != nil, Fetching: r.fetching.total()}
	if err == nil {
		for _, n := range r.nodes {
			s.Results = append(s.Results, n.result)
		}
		s.Took = r.Now().Sub(r.began)
		if r.opt.Settled != nil {
			r.opt.Settled(s)
		}
	}
	s.Uploading, s.BytesOut = r.uploads.finish(ctx)
	if err != nil {
		return nil, err
	}
	return s, nil
}

func (e *Engine) newRun(opt Options) *run {
	r := &run{
		Engine: e, opt: opt, began: e.Now(), of: map[*graph.Task]*node{}, held: map[string]bool{},
		events: make(chan event), slots: make([]bool, opt.Jobs), free: opt.Jobs,
	}
	r.plan()
	return r
}

func (r *run) plan() {
	r.picked = map[*graph.Task]bool{}
	for _, t := range r.opt.Picked {
		r.picked[t] = true
	}
	for _, t := range r.Graph.Closure(r.opt.Picked) {
		n := &node{task: t, picked: r.picked[t]}
		r.nodes = append(r.nodes, n)
		r.of[t] = n
		for _, u := range t.Dependencies {
			b := r.of[u]
			n.before = append(n.before, b)
			b.after = append(b.after, n)
		}
		n.blocked = len(n.before)
		r.offer(n)
	}
	tasks := make([]*graph.Task, len(r.nodes))
	for i, n := range r.nodes {
		tasks[i] = n.task
	}
	r.queue = schedule.NewQueue(schedule.Remaining(tasks, r.lastSeconds))
}

func (r *run) lastSeconds(t *graph.Task) (float64, bool) {
	last, ok := r.State.Last(t.Addr())
	return last.Took, ok && last.Took > 0
}

// prepare takes the files as they are and what the machine says of itself.
func (r *run) prepare(ctx context.Context) error {
	for _, n := range r.nodes {
		if _, err := n.task.Decl.Run.With(r.Graph.Repo, r.Graph.Chosen); err != nil {
			return err
		}
	}
	var wg sync.WaitGroup
	var snapErr, probeErr error
	wg.Go(func() {
		var v *files.Survey
		if v, snapErr = r.Files.Survey(ctx); snapErr != nil || r.tryQuick(ctx, v) {
			return
		}
		if r.snap, snapErr = r.Files.SnapshotOf(v); snapErr == nil {
			if r.little() {
				r.Files.Memory.Forgo()
			}
			r.snap.Warm(ctx, r.open())
			r.probes, probeErr = r.runProbes(ctx) // which read files, too
		}
	})
	if r.Shared != nil {
		wg.Go(func() {
			self, err := r.Shared.Self(ctx)
			if err != nil {
				r.Shared = nil // it has warned
				return
			}
			r.self = self
		})
	}
	wg.Wait()
	if snapErr != nil {
		return fmt.Errorf("looking at the repository's files: %w", snapErr)
	}
	if r.snap == nil {
		return nil // all is right as it is
	}
	r.ask = newAsker(r)
	if r.Shared != nil {
		r.line = r.Store.Line(r.Service)
	}
	return probeErr
}

const (
	fewFiles   = 4000     // that are read sooner than remembered digests are
	smallBytes = 32 << 20 // of outputs, the same
)

// little tells whether the tasks that have no result read so few files, and made
// so little the last time, that it is quicker to read all of it anew than what
// is remembered of the whole repository.
func (r *run) little() bool {
	if r.quick.rests == nil || len(r.quick.noted) == 0 {
		return false
	}
	open, bytes := r.open(), int64(0)
	if len(open) > len(r.nodes)/10 || r.snap.Reading(open, fewFiles) == fewFiles {
		return false
	}
	for _, t := range open {
		if last, ok := r.lastListing(t); ok {
			bytes += last.Bytes()
		}
	}
	for _, q := range r.questions() {
		for _, read := range r.Graph.Repo.Probes[q.probe].Reads {
			name := read.Pattern.String()
			if q.project != nil && read.Scope == decl.Own {
				name = path.Join(q.project.Dir, name)
			}
			if !r.snap.Has(name) {
				return false // more than a file, and nobody knows how much
			}
		}
	}
	return bytes < smallBytes
}

// open returns the tasks that have no result.
func (r *run) open() []*graph.Task {
	var out []*graph.Task
	for _, n := range r.nodes {
		if n.result == nil {
			out = append(out, n.task)
		}
	}
	return out
}
