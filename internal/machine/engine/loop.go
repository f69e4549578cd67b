package engine

import (
	"cmp"
	"context"
	"runtime"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/transfer"
)

// loop owns the state of all tasks of a run. It starts workers, and applies
// their events.
type loop struct {
	board     *board
	outputs   *Outputs
	settler   *settler
	runner    *runner
	events    chan event
	settling  int // workers that settle
	running   int // workers that run a task
	waiting   int // tasks that run elsewhere
	keepGoing bool
	follow    bool // what tasks print elsewhere is passed on
	done      func(*Result)
	elsewhere func(t *graph.Task, place string, left float64)
	now       func() time.Duration // since the start of the run
}

// run settles all tasks. When it returns, every task has a result and no worker
// is left.
func (l *loop) run(ctx context.Context) {
	for l.settling > 0 || l.running > 0 || l.waiting > 0 || l.board.open() > 0 { // counting the open ones takes longest
		if ctx.Err() == nil && (!l.board.failed || l.keepGoing) {
			l.startWorkers(ctx)
		}
		if l.settling == 0 && l.running == 0 && l.waiting == 0 {
			break // nothing more can start
		}
		l.apply(ctx, <-l.events)
	}
	l.closeRest()
}

// startWorkers settles tasks whose dependencies are done, and runs queued tasks
// while slots are free.
func (l *loop) startWorkers(ctx context.Context) {
	for limit := 2*runtime.GOMAXPROCS(0) + 2; l.settling < limit; {
		n := l.board.takeNext()
		if n == nil {
			break
		}
		l.settling++
		job := settleJob{task: n.task, evicted: n.evicted}
		go func() { l.events <- l.settler.settle(ctx, job) }()
	}
	for l.board.slots.free > 0 {
		n, slot := l.board.takeQueued()
		if n == nil {
			return
		}
		l.running++
		job := runJob{task: n.task, verdict: n.verdict, slot: slot, queuedAt: n.queuedAt, mayRetry: n.retries < maxRetries}
		go func() { l.events <- l.runner.run(ctx, job) }()
	}
}

// maxRetries limits how often a task is settled again because its files changed.
const maxRetries = 4

func (l *loop) apply(ctx context.Context, ev event) {
	from := ev.about()
	n := l.board.of[from.task]
	if waited, ok := ev.(waitedEnough); ok {
		l.waiting--
		n.log = waited.log
		l.board.settleAgain(n)
		return
	}
	if _, ok := ev.(processEnded); ok {
		l.board.lend(n, from.slot)
		return
	}
	if from.slot > 0 {
		l.running--
		l.board.release(n, from.slot)
	} else {
		l.settling--
	}
	for _, b := range from.brought {
		l.applyBrought(b)
	}
	switch ev := ev.(type) {
	case outputsGone:
		if d := l.board.of[ev.dependency]; d.phase == done {
			d.evicted = true
			l.board.reopen(d)
		}
		l.board.settleAgain(n)
	case outputsDiffer:
		if d := l.board.of[ev.dependency]; d.phase == done {
			l.board.reopen(d)
		}
		n.retries++
		l.board.settleAgain(n)
	case filesChanged:
		if ev.counts {
			n.retries++
		}
		l.board.settleAgain(n)
	case runsElsewhere:
		l.waitFor(ctx, n, ev)
	case mustRun:
		if n.stale {
			l.board.settleAgain(n)
		} else {
			l.board.enqueue(n, ev.verdict, l.now())
		}
	case haveResult:
		if n.stale {
			l.board.settleAgain(n)
		} else {
			l.applyResult(n, ev)
		}
	}
}

// How often a client looks whether a task that runs elsewhere has a result: in general, and
// in a run of several machines, whose members wait for each other all the time.
const (
	askAgain  = time.Second
	askJoined = 200 * time.Millisecond
)

// waitFor waits for the result of a task that runs elsewhere. It takes no slot and no
// lock.
func (l *loop) waitFor(ctx context.Context, n *node, ev runsElsewhere) {
	l.settler.find.Lookups.Forget(n.verdict.taken.Key)
	if ev.place == "" {
		l.board.settleAgain(n)
		return
	}
	n.phase = elsewhere
	l.waiting++
	n.waitsSince = cmp.Or(n.waitsSince, l.now())
	l.elsewhere(n.task, ev.place, ev.left)
	waited, wait := waitedEnough{source{task: n.task}, n.log}, askAgain
	if l.runner.joined {
		wait = askJoined
	}
	go func() {
		select {
		case <-ctx.Done():
		case <-time.After(wait):
			if l.follow {
				waited.log = l.runner.follow(ctx, n.task, ev.run, waited.log)
			}
		}
		l.events <- waited
	}()
}

// applyBrought corrects the outcome of a task whose outputs were put on the disk
// after it was settled.
func (l *loop) applyBrought(b *transfer.Brought) {
	n := l.board.of[b.Task]
	if out := l.outputs.Get(b.Task); out != nil && !out.OnDisk {
		onDisk := *out
		onDisk.OnDisk = true
		l.outputs.set(b.Task, &onDisk)
	}
	if n.phase != done || n.result.Outcome != decide.Cached {
		return
	}
	res := *n.result
	if res.Outcome = decide.Delivered(res.Outcome, b.Bytes); b.Bytes > 0 {
		res.Sharing.Cost += b.Took
	}
	res.Sharing.BytesIn += b.Bytes
	res.Timing.Took += b.Took
	n.result = &res
	l.done(&res)
}

// applyResult records a result. If the outputs differ from those that others
// were settled with, these are settled again.
func (l *loop) applyResult(n *node, ev haveResult) {
	if ev.output != nil {
		if before := l.outputs.Get(n.task); before != nil && !before.isSame(ev.output) {
			l.board.reopenDependents(n)
		}
		l.outputs.set(n.task, ev.output)
	}
	if t := &ev.result.Timing; n.waitsSince > 0 && ev.result.Outcome.IsSaving() {
		t.Took += t.At - n.waitsSince // waiting is a part of what it took
		t.At = n.waitsSince
	}
	l.board.finish(n, ev.result)
	l.done(ev.result)
}

// closeRest gives an outcome to every task that never started.
func (l *loop) closeRest() {
	for _, n := range l.board.nodes {
		if n.phase == done {
			continue
		}
		r := &Result{Task: n.task, Picked: l.settler.rules.picked[n.task], Timing: Timing{At: l.now()}}
		r.Outcome, r.Message = l.board.rest(n)
		n.phase, n.result = done, r
		l.done(r)
	}
}
