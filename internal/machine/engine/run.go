package engine

import (
	"context"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/claim"
	"grayloft.example/grayloft/internal/machine/join"
	"grayloft.example/grayloft/internal/machine/keep"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/share"
	"grayloft.example/grayloft/internal/machine/store"
)

// Run settles every picked task and all its dependencies. The error is for what
// prevented the run; failures of tasks are in the summary.
func (e *Engine) Run(ctx context.Context, opt Options) (*Summary, error) {
	return e.RunAnd(ctx, opt, nil)
}

// RunAnd is [Engine.Run], and then calls do, in the same run, if every task has
// a valid result.
func (e *Engine) RunAnd(ctx context.Context, opt Options, do func(*Session) error) (*Summary, error) {
	end, err := e.State.Begin(opt.Run, func(run string) { process.EndRun(run) })
	if err != nil {
		return nil, err
	}
	defer end()
	defer process.Unguard()
	s := newSession(e, opt)
	sum, err := s.run(ctx, do == nil)
	if err != nil || do == nil || !sum.OK() {
		return sum, err
	}
	process.Guard(opt.Run)
	return sum, do(s)
}

// run settles all tasks. With quick, tasks whose fingerprints did not change are
// current without further ado.
func (s *Session) run(ctx context.Context, quick bool) (*Summary, error) {
	b := newBoard(s.Tasks, s.opt.Jobs, s.lastSeconds)
	var settle func(*Result)
	if quick {
		settle = func(r *Result) {
			b.finish(b.of[r.Task], r)
			s.engine.Observer.Done(r)
		}
	}
	if err := s.prepare(ctx, settle); err != nil {
		return nil, err
	}
	uploads, line := s.uploads(), s.Delivery.Blobs.Line()
	others := s.others(uploads)
	if b.open() > 0 {
		if s.opt.Begun != nil {
			go s.opt.Begun()
		}
		s.newLoop(b, uploads, others).run(ctx)
		s.Remember(func(t *graph.Task) *Result { return b.of[t].result })
		s.notes.summarise(s.opt.Run)
	}
	sum := &Summary{Interrupted: ctx.Err() != nil, Fetching: s.Delivery.Blobs.Spent.Total(), Took: s.clock.since(s.clock.began)}
	for _, n := range b.nodes {
		sum.Results = append(sum.Results, n.result)
	}
	if s.opt.Settled != nil {
		s.opt.Settled(sum)
	}
	if uploads != nil {
		sum.Uploading, sum.Sent = uploads.Finish(ctx)
		for _, n := range sum.Sent {
			sum.BytesOut += n
		}
	}
	if others != nil {
		others.Finish(context.WithoutCancel(ctx))
	}
	if now := s.Delivery.Blobs.Line(); now != line {
		s.engine.Store.KeepLine(s.engine.Service, now)
	}
	_ = s.engine.Store.Flush() // what other processes cannot see is made or fetched again
	return sum, nil
}

func (s *Session) lastSeconds(t *graph.Task) (float64, bool) {
	last, ok := s.engine.State.Last(t.Addr())
	return last.Took, ok && last.Took > 0
}

// uploads returns what shares results, or nil if nothing is shared. A service
// that does not answer gets them later.
func (s *Session) uploads() *share.Uploads {
	if s.service == nil || s.self.Repo != "" && s.self.WritesTo == "" {
		return nil
	}
	return &share.Uploads{Service: s.service, Warn: s.engine.Observer.Warn, Now: s.engine.Now}
}

// others returns what announces the tasks of the run; nil if nothing is shared, or others
// are not asked for results.
func (s *Session) others(uploads *share.Uploads) announcer {
	var others announcer
	switch {
	case uploads == nil || s.opt.NoReuse || s.self.WritesTo == "":
		return nil
	case s.opt.Join != "":
		others = &join.Member{
			Service: s.service, ID: s.opt.Join, Run: s.opt.Run, Maker: s.engine.Maker, Warn: s.engine.Observer.Warn,
		}
	case s.opt.NoWait:
		return nil
	default:
		others = &claim.Claims{Service: s.service, Run: s.opt.Run, Maker: s.engine.Maker}
	}
	uploads.Ended = others.Uploaded
	return others
}

func (s *Session) newLoop(b *board, uploads *share.Uploads, others announcer) *loop {
	e := &s.engine
	keeper := &keep.Keeper{
		Work: s.Delivery.Work, Look: s.Look, Probes: s.prober, Now: e.Now,
		Notices:  keep.Notices{Warn: e.Observer.Warn, WarnOnce: s.notes.once},
		Identity: keep.Identity{Origin: s.ownOrigin(), Maker: e.Maker, Name: s.self.Name},
	}
	early := sync.OnceValue(func() map[*graph.Task]digest.Digest { return s.Look.EarlyKeys(s.Tasks) })
	events := make(chan event)
	return &loop{
		board: b, outputs: s.Outputs, events: events, keepGoing: s.opt.KeepGoing, done: e.Observer.Done,
		elsewhere: e.Observer.Waiting, follow: s.opt.Follow,
		now: func() time.Duration { return s.clock.since(s.clock.began) },
		settler: &settler{
			look: s.Look, find: s.Find, delivery: s.Delivery, outputs: s.Outputs, rules: s.rules, warn: e.Observer.Warn, clock: s.clock,
			origin: store.Origin{Repo: e.Graph.Repo.Name, Service: e.Service},
		},
		runner: &runner{
			look: s.Look, execute: s.Execute, keep: keeper, delivery: s.Delivery, outputs: s.Outputs, uploads: uploads,
			readings: &readings{work: s.Delivery.Work, outputs: s.Outputs},
			others:   others, joined: s.opt.Join != "",
			earlyKey: func(t *graph.Task) digest.Digest { return early()[t] }, tell: func(ev event) { events <- ev },
			observer: e.Observer, clock: s.clock,
		},
	}
}

// ownOrigin is the origin of entries that are made in this run. Without a service, they are
// not for a shelf.
func (s *Session) ownOrigin() store.Origin {
	o := store.Origin{Repo: s.engine.Graph.Repo.Name}
	if s.service != nil && s.self.WritesTo != "" {
		o.Service, o.Shelf = s.engine.Service, s.self.WritesTo
	}
	return o
}
