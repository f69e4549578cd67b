package engine

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/schedule"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/protocol"
)

type phase int

const (
	waiting  phase = iota // for what it comes after
	settling              // a goroutine looks for what is there
	queued                // it has to run, and waits for a slot
	running
	done
)

// node is a task of the plan. The loop owns it; goroutines read from nodes
// before theirs only what no longer changes once those are done.
type node struct {
	task   *graph.Task
	picked bool
	before []*node
	after  []*node

	phase   phase
	verdict *verdict // why it has to run, while it waits for a slot
	stale   bool     // what it was settled on changed meanwhile: settle again
	blocked int      // tasks before it that are not done and good
	listed  bool     // among those that may be settled
	result  *Result
	tries   int
	demand  bool // has to run: its blobs have gone

	place placed // what came out, and where it is
}

// placed is what a task made and where it is. It is guarded by its own lock,
// since bringing outputs to the disk is shared by all who read them.
type placed struct {
	mu     sync.Mutex
	set    bool
	list   listing.List
	digest digest.Digest
	onDisk bool
	entry  *protocol.Entry
}

// run is one run of an engine.
type run struct {
	*Engine
	opt    Options
	began  time.Time
	nodes  []*node
	of     map[*graph.Task]*node
	snapMu sync.Mutex
	snap   *files.Snapshot
	probes map[question]string
	picked map[*graph.Task]bool
	held   map[string]bool // locks of tasks that run
	self   protocol.Self

	events     chan event
	queue      *schedule.Queue
	next       []*node // that wait for nothing, in the order of the graph where they began
	free       int
	slots      []bool
	active     int
	settle     int // goroutines that settle
	failed     bool
	ask        *asker
	uploads    *uploads
	fetching   span
	movedCount atomic.Int64 // tasks in whose way something was
	quickly    bool         // it may do with what an earlier run noted
	quick      quick
	answers    map[question]string // of probes that ran
	answersMu  sync.Mutex
	said       sync.Map // what a sentence that is said once was about
	lineMu     sync.Mutex
	line       decide.Line
}

type event struct {
	n       *node
	verdict *verdict  // it has to run
	result  *Result   // it is done
	again   bool      // its files changed: settle it again
	gone    *node     // a task before it has to run first
	place   *placedAt // with result: what came out
	err     error     // the run cannot go on
	slot    int       // given back, if it is not 0
	brought []brought // what came onto the disk for it
}

type placedAt struct {
	list   listing.List
	onDisk bool
	entry  *protocol.Entry
}

func (r *run) loop(ctx context.Context) error {
	left := len(r.open())
	var fatal error
	for left > 0 || r.settle > 0 || r.active > 0 {
		halt := ctx.Err() != nil || fatal != nil || (r.failed && !r.opt.KeepGoing)
		if !halt {
			r.startReady(ctx)
		}
		if r.settle == 0 && r.active == 0 {
			break // nothing more can start
		}
		ev := <-r.events
		left += r.handle(ev)
		if ev.err != nil && fatal == nil {
			fatal = ev.err
		}
	}
	if fatal != nil && ctx.Err() == nil {
		return fatal
	}
	r.closeRest()
	return nil
}

// startReady settles what waits for nothing, and runs what has to while slots
// are free.
func (r *run) startReady(ctx context.Context) {
	limit := 2*runtime.GOMAXPROCS(0) + 2
	for len(r.next) > 0 && r.settle < limit {
		n := r.next[0]
		r.next = r.next[1:]
		n.listed = false
		if n.phase != waiting || n.blocked > 0 {
			continue
		}
		n.phase = settling
		r.settle++
		demand := n.demand
		go func() { r.events <- r.settleTask(ctx, n, demand) }()
	}
	for r.free > 0 {
		t := r.queue.Take(r.fits)
		if t == nil {
			return
		}
		r.start(ctx, r.of[t])
	}
}

// fits tells whether a task's slots and locks are free.
func (r *run) fits(t *graph.Task) bool {
	return schedule.Fits(t, r.free, r.opt.Jobs, r.held)
}

// offer lists a node to be settled, if it waits for nothing.
func (r *run) offer(n *node) {
	if n.phase == waiting && n.blocked == 0 && !n.listed {
		n.listed = true
		r.next = append(r.next, n)
	}
}

// wait puts a node back to be settled, later.
func (r *run) wait(n *node) {
	n.phase = waiting
	r.offer(n)
}

// undo takes back that a node is done.
func (r *run) undo(n *node) {
	if n.good() {
		for _, a := range n.after {
			a.blocked++
		}
	}
	r.wait(n)
}

func (n *node) good() bool {
	switch n.result.Outcome {
	case Current, Cached, Restored, Fetched, Ran:
		return true
	}
	return false
}

func (r *run) start(ctx context.Context, n *node) {
	slot := 0
	for i, taken := range r.slots {
		if !taken {
			slot = i + 1
			r.slots[i] = true
			break
		}
	}
	n.phase, n.stale = running, false // its key is taken again before it runs
	r.active++
	r.free -= min(n.task.Slots, r.opt.Jobs)
	for _, l := range n.task.Locks {
		r.held[l] = true
	}
	v := n.verdict
	go func() {
		ev := r.execute(ctx, n, v, slot)
		ev.slot = slot
		r.events <- ev
	}()
}

// handle takes in what a goroutine found, and returns by how much the number
// of tasks that are left changed.
func (r *run) handle(ev event) int {
	n := ev.n
	if ev.slot > 0 {
		r.slots[ev.slot-1] = false
		r.free += min(n.task.Slots, r.opt.Jobs)
		for _, l := range n.task.Locks {
			delete(r.held, l)
		}
		r.active--
	} else {
		r.settle--
	}
	for _, b := range ev.brought {
		r.moved(b)
	}
	switch {
	case ev.err != nil:
		n.phase = waiting
		return 0
	case ev.gone != nil:
		moved := 0
		if ev.gone.phase == done {
			ev.gone.demand = true
			r.undo(ev.gone)
			moved = 1
		}
		r.wait(n)
		return moved
	case ev.again || n.stale:
		n.stale = false
		r.wait(n)
		return 0
	case ev.verdict != nil:
		n.verdict, n.phase = ev.verdict, queued
		r.queue.Add(n.task)
		return 0
	}
	return r.finish(n, ev)
}

// moved corrects the outcome of a task that had been settled without its
// outputs.
func (r *run) moved(b brought) {
	res := *b.n.result
	if b.n.phase != done || res.Outcome != Cached || len(b.n.place.list) == 0 {
		return
	}
	res.Outcome = Restored
	if b.moved > 0 {
		res.Outcome, res.Cost = Fetched, res.Cost+b.took
	}
	res.BytesIn += b.moved
	res.Took += b.took
	b.n.result = &res
	r.Observer.Done(&res)
}

// finish notes how a task came out. Where it came out different from what
// others were settled on, they are settled again.
func (r *run) finish(n *node, ev event) int {
	change := -1
	n.place.mu.Lock()
	if ev.place != nil {
		d := ev.place.list.Digest()
		if n.place.set && n.place.digest != d {
			change += r.reopen(n)
		}
		n.place.set, n.place.list, n.place.digest = true, ev.place.list, d
		n.place.onDisk, n.place.entry = ev.place.onDisk, ev.place.entry
	}
	n.place.mu.Unlock()
	n.phase, n.result, n.demand = done, ev.result, false
	n.result.Picked = n.picked
	if n.good() {
		for _, a := range n.after {
			a.blocked--
			r.offer(a)
		}
	} else {
		r.failed = true
	}
	r.Observer.Done(n.result)
	return change
}

// reopen marks everything after n to be settled again, and returns how many
// were done already.
func (r *run) reopen(n *node) int {
	count := 0
	for _, t := range r.Graph.Dependents([]*graph.Task{n.task}) {
		d := r.of[t]
		if d == nil || d == n {
			continue
		}
		switch d.phase {
		case done:
			r.undo(d)
			count++
		case settling, running:
			d.stale = true
		case queued:
			d.stale = true // found when it starts: its key is taken again
		}
	}
	return count
}

// closeRest gives an outcome to what never started.
func (r *run) closeRest() {
	for _, n := range r.nodes {
		if n.phase == done {
			continue
		}
		n.result = &Result{Task: n.task, Outcome: NotStarted, Picked: n.picked, At: r.Now().Sub(r.began)}
		for _, b := range n.before {
			if b.phase == done && (b.result.Outcome == Failed || b.result.Outcome == Blocked) {
				n.result.Outcome = Blocked
				n.result.Message = "after " + b.task.Addr()
			}
		}
		n.phase = done
		r.Observer.Done(n.result)
	}
}
