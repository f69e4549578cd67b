// Package engine carries out runs: it settles every picked task and all its
// dependencies, by reusing a result or by running the task, and reports the
// outcome of each with its reason.
//
// One goroutine, the loop, owns the state of all tasks. Workers look, find,
// execute, keep and share (each a package of its own); they receive values and
// answer with events.
package engine

import (
	"context"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/claim"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/join"
	"grayloft.example/grayloft/internal/machine/share"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// Shared is the shared cache as the engine sees it. Any of its methods may fail
// at any time; a failure costs time and never fails the run.
type Shared interface {
	// Self returns which shelves the token writes to and reads from. With an error, it
	// returns what is remembered of that; a zero value if nothing is.
	Self(ctx context.Context) (protocol.Self, error)
	// Lookup returns candidates for keys and early keys.
	Lookup(ctx context.Context, tasks []protocol.Query) ([]protocol.Entry, error)
	// Fetch downloads blobs into this machine's store, and returns the number
	// of bytes. It wraps [protocol.ErrGone] if the service no longer has one.
	FetchAnd(ctx context.Context, blobs []protocol.Blob, arrived func(d digest.Digest, text []byte)) (int64, error)
	// Down tells whether the service is given up at present.
	Down() bool
	share.Service
	claim.Service
	join.Service
}

// Observer is told what happens. Its methods are called from several goroutines
// and must not block.
type Observer interface {
	Started(t *graph.Task, at time.Duration, slot int)
	Line(t *graph.Task, line string)
	// Waiting tells that a task runs elsewhere, and its result is waited for: left is the
	// expected seconds until then; 0: unknown.
	Waiting(t *graph.Task, place string, left float64)
	// Elsewhere tells what a task printed where it runs, if [Options.Follow] is set.
	Elsewhere(t *graph.Task, line string)
	Done(r *Result)
	Warn(sentence string)
}

// Options are what the person asked for.
type Options struct {
	Run       string // id
	Picked    []*graph.Task
	Jobs      int
	KeepGoing bool
	NoReuse   bool
	Join      string   // the run of several machines that this one is a part of
	NoWait    bool     // tasks that others run are run here, too
	Follow    bool     // what tasks print that others run is passed on
	Args      []string // for the commands of picked tasks
	Fetch     decide.Fetch
	Grace     time.Duration   // between SIGTERM and SIGKILL
	Kill      <-chan struct{} // closed by a second interrupt
	Begun     func()          // called if not every task is current by what is recorded, beside what follows
	Settled   func(*Summary)  // called when every task has an outcome, before the last upload ends
}

// Engine is what a run works with.
type Engine struct {
	Graph    *graph.Graph
	Files    *files.Checkout
	State    *checkout.State
	Store    *store.Store
	Shared   Shared                // nil: only this machine's cache
	Service  string                // address of the shared cache, for the origin of entries
	Rights   protocol.Self         // without Shared: what its token may read of this machine's cache
	Maker    func() protocol.Maker // who runs here; called only if a task runs
	Env      environment.Environment
	Platform string
	Observer Observer
	Now      func() time.Time
}
