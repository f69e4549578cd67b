// Package engine settles the tasks of a plan: it takes each key, looks for
// what is there already (on the disk, in this machine's cache, in the shared
// one), runs what is left, keeps what came out, and says for each task how it
// came out and why.
//
// One goroutine, the loop of [Engine.Run], owns the state of all tasks; what
// it starts (settling one task, running one) gets what it needs as values and
// answers with an event.
package engine

import (
	"context"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// Outcome is how a task came out.
type Outcome string

// The nine outcomes.
const (
	Current    Outcome = "current"
	Cached     Outcome = "cached"
	Restored   Outcome = "restored"
	Fetched    Outcome = "fetched"
	Ran        Outcome = "ran"
	Failed     Outcome = "failed"
	Blocked    Outcome = "blocked"
	Stopped    Outcome = "stopped"
	NotStarted Outcome = "not-started"
)

// Outcomes in the order in which they are shown.
var Outcomes = []Outcome{Current, Cached, Restored, Fetched, Ran, Failed, Blocked, Stopped, NotStarted}

// Fetch says which outputs are moved here from a cache.
type Fetch string

// The values of --fetch.
const (
	FetchNeeded Fetch = "needed" // what was asked for, and what a task that runs will read
	FetchAll    Fetch = "all"
	FetchNone   Fetch = "none" // nothing from the shared cache
)

// Shared is the shared cache as the engine sees it. Any of its methods may
// fail at any time; a failure costs time and is never the run's.
type Shared interface {
	// Self says which shelves the token puts on and takes from.
	Self(ctx context.Context) (protocol.Self, error)
	// Lookup returns candidates for a batch of keys and early keys.
	Lookup(ctx context.Context, tasks []protocol.Query) ([]protocol.Entry, error)
	// Fetch brings blobs into this machine's store, and returns the bytes
	// moved. [protocol.ErrGone] is wrapped where the service no longer has one.
	Fetch(ctx context.Context, blobs []protocol.Blob) (int64, error)
	// Share files an entry with all its blobs, which are in the store, and
	// returns the bytes moved.
	Share(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error)
}

// Observer is told what happens. Its methods are called from many goroutines
// and must not block.
type Observer interface {
	Started(t *graph.Task, at time.Duration, slot int)
	Line(t *graph.Task, line string)
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
	Args      []string // handed to the picked tasks' commands
	Fetch     Fetch
	Grace     time.Duration   // between the gentle end of a task and the sure one
	Kill      <-chan struct{} // closed by a second interrupt
	Settled   func(*Summary)  // called once every task is settled, before what was made is all shared
}

// Engine holds what a run works with.
type Engine struct {
	Graph    *graph.Graph
	Files    *files.Checkout
	State    *checkout.State
	Store    *store.Store
	Shared   Shared                // nil: this machine's cache alone
	Service  string                // the shared cache's address, for the origin of entries
	Maker    func() protocol.Maker // who runs here; asked only if something is made
	Env      []string              // the person's environment
	Platform string
	Observer Observer
	Now      func() time.Time
}

// Result is how one task came out.
type Result struct {
	Task    *graph.Task
	Outcome Outcome
	Reason  key.Reason
	Changes []key.Change // what belongs to the reason
	Message string       // for people: how it failed, why it was not kept
	Key     digest.Digest
	Listing digest.Digest
	Log     digest.Digest
	// Ingredients is what the key was computed from, as it is kept.
	Ingredients digest.Digest
	LogText     []byte
	At          time.Duration // since the run began
	Took        time.Duration // to settle it here
	Made        float64       // seconds that it took when it was made
	Slot        int
	MadeBy      *protocol.Maker
	Cost        time.Duration // of it, spent on sharing
	BytesIn     int64
	Picked      bool

	Drift []drift.Finding // of an audited task: where its declaration and what it opened differ

	secret string // an output that holds a masked value
	unheld string // why what was to hold the task did not, so that it is not shared
}

// Saved returns the seconds that not running the task saved.
func (r *Result) Saved() float64 {
	switch r.Outcome {
	case Cached, Restored, Fetched:
		return r.Made - r.Took.Seconds()
	}
	return 0
}

// Detail returns what belongs to the reason, as words.
func (r *Result) Detail() []string {
	var out []string
	for _, c := range r.Changes {
		if c.What != "" {
			out = append(out, c.What)
		}
	}
	return out
}

// Summary is how a whole run came out.
type Summary struct {
	Results     []*Result // in the order of the graph
	Took        time.Duration
	Interrupted bool
	Fetching    time.Duration // in which anything was on its way here
	Uploading   time.Duration // in which anything was on its way to the service
	BytesOut    int64
}

// Saved returns the seconds of work that did not have to be done here: what
// the tasks took when they were made. What sharing cost is not taken off.
func (s *Summary) Saved() float64 {
	sum := 0.0
	for _, r := range s.Results {
		switch r.Outcome {
		case Cached, Restored, Fetched:
			sum += r.Made
		}
	}
	return sum
}

// OK tells whether every task came out right.
func (s *Summary) OK() bool {
	if s.Interrupted {
		return false
	}
	for _, r := range s.Results {
		switch r.Outcome {
		case Failed, Blocked, Stopped, NotStarted:
			return false
		}
	}
	return true
}

// Totals counts outcomes; each of the nine is there.
func (s *Summary) Totals() map[string]int {
	out := map[string]int{}
	for _, o := range Outcomes {
		out[string(o)] = 0
	}
	for _, r := range s.Results {
		out[string(r.Outcome)]++
	}
	return out
}

// shareable tells whether a task's entries may leave this machine.
func shareable(t *graph.Task) bool {
	return t.ProbesGiven() && t.Reuse != decl.Local && t.Reuse != decl.Never
}
