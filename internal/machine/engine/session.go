package engine

import (
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/execute"
	"grayloft.example/grayloft/internal/machine/find"
	"grayloft.example/grayloft/internal/machine/fingerprint"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/probe"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// Session is everything that is set up for one run, or for the preview of one.
type Session struct {
	Tasks    []*graph.Task // the picked tasks and their dependencies, in graph order
	Outputs  *Outputs
	Look     *look.Looker
	Execute  *execute.Executor
	Delivery *transfer.Delivery
	Find     *find.Finder // nil until Prepare

	engine  Engine // a copy: a run changes nothing of its caller
	service Shared // nil: there is none; the engine's is nil as well if the token's rights are not known
	opt     Options
	self    protocol.Self
	rules   rules
	prints  *fingerprint.Fingerprints // nil: not taken
	prober  *probe.Prober
	notes   *notices
	clock   clock
}

func newSession(e *Engine, opt Options) *Session {
	s := &Session{
		engine:  *e,
		service: e.Shared,
		self:    e.Rights,
		opt:     opt,
		Tasks:   e.Graph.Closure(opt.Picked),
		notes:   &notices{warn: e.Observer.Warn},
		clock:   clock{e.Now, e.Now()},
	}
	s.rules = rules{picked: map[*graph.Task]bool{}, noReuse: opt.NoReuse, fetch: opt.Fetch}
	for _, t := range opt.Picked {
		s.rules.picked[t] = true
	}
	s.Outputs = newOutputs(s.Tasks)
	s.Look = &look.Looker{Graph: e.Graph, Files: e.Files, Env: e.Env, Platform: e.Platform, Args: opt.Args, Picked: s.rules.picked}
	work := &outputs.Workspace{State: e.State, Files: e.Files, Store: e.Store, Run: opt.Run, Report: s.notes.reportDisplaced}
	s.Delivery = &transfer.Delivery{Work: work, Blobs: &transfer.Blobs{Store: e.Store, Now: e.Now}}
	s.Execute = &execute.Executor{
		Work: work, Env: e.Env, Args: opt.Args, Picks: s.rules.picked, Limit: execute.Limits{Grace: opt.Grace, Kill: opt.Kill},
		Now: e.Now, Line: e.Observer.Line,
	}
	return s
}

// Rules returns the rules of reuse for one task of the session.
func (s *Session) Rules(t *graph.Task) decide.Rules {
	return s.rules.of(t, false, s.Outputs)
}

// IsPicked tells whether a task was requested.
func (s *Session) IsPicked(t *graph.Task) bool { return s.rules.picked[t] }

// SetOutput records the expected output of a task in a preview.
func (s *Session) SetOutput(t *graph.Task, out *Output) { s.Outputs.set(t, out) }
