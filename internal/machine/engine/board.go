package engine

import (
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/schedule"
)

type phase int

const (
	waiting  phase = iota // for its dependencies
	settling              // a worker searches for a result
	queued                // it has to run, and waits for a slot
	running
	elsewhere // another client runs it
	done
)

// node is the state of one task.
type node struct {
	task         *graph.Task
	dependencies []*node
	dependents   []*node
	phase        phase
	blockers     int  // dependencies without a valid result
	listed       bool // in board.next
	stale        bool // the outputs of a dependency changed meanwhile: settle it again
	lent         bool // its slot is another task's, while its outputs are kept
	evicted      bool // its blobs are missing: it has to run
	retries      int  // how often its files changed
	queuedAt     time.Duration
	waitsSince   time.Duration // since when it runs elsewhere; 0: it does not
	log          followed      // what it printed there
	verdict      verdict
	result       *Result
}

// board is the state of all tasks of a run. Only the loop uses it.
type board struct {
	nodes  []*node // in graph order
	of     map[*graph.Task]*node
	next   []*node         // ready to be settled
	queue  *schedule.Queue // ready to run
	slots  slots
	failed bool // some task has no valid result
}

// slots are the places in which tasks run.
type slots struct {
	taken []bool
	free  int
	lent  int             // tasks that have no slot any more, but whose outputs are still being kept
	locks map[string]bool // held by running tasks
}

func newBoard(tasks []*graph.Task, jobs int, seconds func(*graph.Task) (float64, bool)) *board {
	b := &board{
		of: map[*graph.Task]*node{}, slots: slots{taken: make([]bool, jobs), free: jobs, locks: map[string]bool{}},
		queue: schedule.NewQueue(schedule.Remaining(tasks, seconds)),
	}
	for _, t := range tasks {
		n := &node{task: t}
		b.nodes = append(b.nodes, n)
		b.of[t] = n
		for _, u := range t.Dependencies {
			d := b.of[u]
			n.dependencies = append(n.dependencies, d)
			d.dependents = append(d.dependents, n)
		}
		n.blockers = len(n.dependencies)
		b.offer(n)
	}
	return b
}

// open returns how many tasks have no result.
func (b *board) open() int {
	n := 0
	for _, x := range b.nodes {
		if x.phase != done {
			n++
		}
	}
	return n
}

// offer lists a task to be settled, if its dependencies are done.
func (b *board) offer(n *node) {
	if n.phase == waiting && n.blockers == 0 && !n.listed {
		n.listed = true
		b.next = append(b.next, n)
	}
}

// takeNext returns a task to settle, or nil.
func (b *board) takeNext() *node {
	for len(b.next) > 0 {
		n := b.next[0]
		b.next = b.next[1:]
		n.listed = false
		if n.phase == waiting && n.blockers == 0 {
			n.phase = settling
			return n
		}
	}
	return nil
}

// takeQueued returns a task to run, with its slot, or nil.
func (b *board) takeQueued() (*node, int) {
	t := b.queue.Take(b.slots.fit)
	if t == nil {
		return nil, 0
	}
	n := b.of[t]
	n.phase, n.stale = running, false // its key is computed again before it runs
	return n, b.slots.take(t)
}

// fit tells whether a task can start. One that needs several slots does not start while
// outputs are kept beside it.
func (s *slots) fit(t *graph.Task) bool {
	return schedule.Fits(t, s.free, len(s.taken), s.locks) && (t.Slots <= 1 || s.lent == 0)
}

func (s *slots) take(t *graph.Task) int {
	s.free -= min(t.Slots, len(s.taken))
	for _, l := range t.Locks {
		s.locks[l] = true
	}
	for i, taken := range s.taken {
		if !taken {
			s.taken[i] = true
			return i + 1
		}
	}
	return 0
}

func (s *slots) giveBack(t *graph.Task, slot int) {
	s.taken[slot-1] = false
	s.free += min(t.Slots, len(s.taken))
}

// lend gives back the slot of a task whose process has ended, so that the next task runs
// while its outputs are kept. Its locks stay its own. In a run of one slot, nothing happens
// beside a task; and outputs of at most as many tasks as there are slots are kept beside others.
func (b *board) lend(n *node, slot int) {
	if s := &b.slots; len(s.taken) > 1 && s.lent < len(s.taken) {
		n.lent = true
		s.lent++
		s.giveBack(n.task, slot)
	}
}

// release gives back what a task still holds when its worker is done.
func (b *board) release(n *node, slot int) {
	s := &b.slots
	if n.lent {
		n.lent = false
		s.lent--
	} else {
		s.giveBack(n.task, slot)
	}
	for _, l := range n.task.Locks {
		delete(s.locks, l)
	}
}

// enqueue queues a task to run.
func (b *board) enqueue(n *node, v verdict, at time.Duration) {
	n.verdict, n.phase, n.queuedAt = v, queued, at
	b.queue.Add(n.task)
}

// settleAgain puts a task back.
func (b *board) settleAgain(n *node) {
	n.phase, n.stale = waiting, false
	b.offer(n)
}

// finish records a result.
func (b *board) finish(n *node, r *Result) {
	n.phase, n.result, n.evicted = done, r, false
	if !r.Outcome.IsGood() {
		b.failed = true
		return
	}
	for _, d := range n.dependents {
		d.blockers--
		b.offer(d)
	}
}

// reopen takes back the result of a task.
func (b *board) reopen(n *node) {
	if n.result.Outcome.IsGood() {
		for _, d := range n.dependents {
			d.blockers++
		}
	}
	b.settleAgain(n)
}

// reopenDependents takes back the results of everything that depends on a task
// whose outputs changed.
func (b *board) reopenDependents(n *node) {
	for _, t := range n.task.Graph().Dependents([]*graph.Task{n.task}) {
		d := b.of[t]
		if d == nil || d == n {
			continue
		}
		switch d.phase {
		case done:
			b.reopen(d)
		case settling, queued, running:
			d.stale = true
		}
	}
}

// rest returns the outcome of each task that never started, with the message for
// it. It returns nil for a task that has a result.
func (b *board) rest(n *node) (o decide.Outcome, message string) {
	for _, d := range n.dependencies {
		if d.phase == done && (d.result.Outcome == decide.Failed || d.result.Outcome == decide.Blocked) {
			return decide.Blocked, "depends on " + d.task.Addr()
		}
	}
	return decide.NotStarted, ""
}
