package remote

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/protocol"
)

// Recorder tells the service about a run while it goes on. Events are numbered,
// so that sending them again is harmless.
type Recorder struct {
	c    *Client
	id   string // of the run
	logs *growing

	describe     func() protocol.Run // once
	declarations func() protocol.Graph

	mu     sync.Mutex
	graph  *protocol.Graph // that the service may not have; nil: it has it
	named  digest.Digest   // the graph of the run; zero: it was not asked for yet
	known  bool            // to the service
	all    []protocol.Event
	made   []digest.Digest // blobs that belong to events: logs, what failed tasks were made from
	sent   int             // of all
	tried  int             // of all: how many there were when they were last sent
	sentLg int             // of made
	wake   chan struct{}
	// dropped tells that nothing of the run is sent later.
	dropped bool
	refused error // why, if the service did not want it
	ended   chan struct{}
}

// Record starts to record a run. Describe describes it, and declarations returns those of its
// repository; both are called while the run goes on.
func Record(c *Client, id string, describe func() protocol.Run, declarations func() protocol.Graph) *Recorder {
	r := &Recorder{
		c: c, id: id, describe: sync.OnceValue(describe), declarations: declarations,
		wake: make(chan struct{}, 1), ended: make(chan struct{}),
	}
	r.logs = grow(c, id)
	go r.send()
	return r
}

func (r *Recorder) add(e protocol.Event) {
	r.mu.Lock()
	e.Seq = int64(len(r.all) + 1)
	r.all = append(r.all, e)
	r.mu.Unlock()
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Started records that a task started to run.
func (r *Recorder) Started(s protocol.TaskStart) {
	r.add(protocol.Event{Start: &s})
	r.logs.started(s.Task)
}

// Line records a line that a running task printed.
func (r *Recorder) Line(task, line string) { r.logs.line(task, line) }

const detailKept = 20 // entries of a task's detail; the ingredients contain everything

// Done records the outcome of a task. Blobs of the store that this run made for it
// are sent along: its log, and what it was made from.
func (r *Recorder) Done(rec protocol.TaskRecord, made ...digest.Digest) {
	r.logs.done(rec.Task)
	rec.Detail = rec.Detail[:min(len(rec.Detail), detailKept)]
	r.mu.Lock()
	for _, d := range made {
		if !d.IsZero() {
			r.made = append(r.made, d)
		}
	}
	r.mu.Unlock()
	r.add(protocol.Event{Task: &rec})
}

// send posts the collected events, until the run is finished or the service refuses them.
// While the service is given up, they wait.
func (r *Recorder) send() {
	defer close(r.ended)
	ctx := inBackground(context.Background())
	if r.c.readsOnly() {
		r.refuse(nil)
		return
	}
	for {
		var again <-chan time.Time
		if err := r.try(ctx); err != nil {
			r.refuse(err)
			if !r.c.mayReturn() {
				return
			}
			again = time.After(firstAsk)
		}
		if r.isOver() {
			return
		}
		select {
		case <-r.wake:
		case <-again:
		}
	}
}

// try sends what was not sent.
func (r *Recorder) try(ctx context.Context) error {
	r.mu.Lock()
	r.tried = len(r.all)
	known := r.known
	r.mu.Unlock()
	if r.c.Down() {
		return protocol.ErrDown
	}
	if !known {
		if err := r.announce(ctx); err != nil {
			return err
		}
	}
	return r.flush(ctx)
}

// isOver tells whether everything was collected, and tried to be sent once since.
func (r *Recorder) isOver() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.dropped || r.tried == len(r.all) && r.tried > 0 && r.all[r.tried-1].Finish != nil
}

// announce sends the run, and its declarations if the service does not have
// them.
func (r *Recorder) announce(ctx context.Context) error {
	run, g := r.describe(), r.declarations()
	_, run.Graph = g.Encode()
	r.mu.Lock()
	r.graph, r.named = &g, run.Graph
	r.mu.Unlock()
	if err := r.c.startRun(ctx, run, &g); err != nil {
		return err
	}
	r.mu.Lock()
	r.graph, r.known = nil, true
	r.mu.Unlock()
	return nil
}

// startRun announces a run, and sends its graph if the service does not have it.
// A service that refuses the graph still records the run.
func (c *Client) startRun(ctx context.Context, run protocol.Run, g *protocol.Graph) error {
	var known protocol.RunKnown
	if err := c.try(ctx, http.MethodPost, "runs", run, &known); err != nil || known.GraphKnown || g == nil || run.Graph.IsZero() {
		return err
	}
	err := c.try(ctx, http.MethodPut, "graphs/"+run.Graph.String(), g, nil)
	var refused refusal
	if errors.As(err, &refused) && refused.Status < 500 && refused.Status != http.StatusUnauthorized {
		c.Warn("the service does not record the declarations of this repository: " + refused.Error())
		return nil
	}
	return err
}

// Tests records the test cases of a task.
func (r *Recorder) Tests(task string, cases []junit.Case) {
	for first := 0; first < len(cases); first += testsEach {
		some := cases[first:min(first+testsEach, len(cases))]
		r.add(protocol.Event{Tests: &protocol.TaskTests{Task: task, First: first, Cases: some}})
	}
}

// testsEach is how many test cases one event contains.
const testsEach = 200

// refuse ends the recording. What a service refuses for what it contains is not
// sent later, and is no reason to do without the service.
func (r *Recorder) refuse(err error) {
	var refused refusal
	switch {
	case err == nil:
	case errors.As(err, &refused) && refused.Status < 500 && refused.Status != http.StatusUnauthorized &&
		refused.Status != http.StatusTooManyRequests:
	default:
		if !errors.Is(err, protocol.ErrDown) {
			_ = r.c.trouble(err)
		}
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dropped, r.refused = true, err
}

func (r *Recorder) flush(ctx context.Context) error {
	r.mu.Lock()
	events, logs := r.all[r.sent:], r.made[r.sentLg:]
	r.mu.Unlock()
	if err := r.c.sendLogs(ctx, logs); err != nil {
		return err
	}
	if err := r.c.postEvents(ctx, r.id, events); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sent += len(events)
	r.sentLg += len(logs)
	return nil
}

func (c *Client) postEvents(ctx context.Context, run string, events []protocol.Event) error {
	for len(events) > 0 {
		n := min(len(events), protocol.MaxEvents)
		var answer protocol.EventsAnswer
		path := "runs/" + url.PathEscape(run) + "/events"
		if err := c.try(ctx, http.MethodPost, path, protocol.Events{Events: events[:n]}, &answer); err != nil {
			return err
		}
		events = events[n:]
	}
	return nil
}

// sendLogs sends logs, unless the token may not write at all: they then stay on
// this machine, and the record is stored without them.
func (c *Client) sendLogs(ctx context.Context, logs []digest.Digest) error {
	if c.readsOnly() {
		return nil
	}
	var blobs []protocol.Blob
	for _, d := range logs {
		if size, err := c.store.Size(d); err == nil {
			blobs = append(blobs, protocol.Blob{Digest: d, Size: size})
		}
	}
	if len(blobs) == 0 {
		return nil
	}
	_, err := c.upload(ctx, blobs, logs)
	return err
}

// readsOnly tells whether the token is known to write to no shelf.
func (c *Client) readsOnly() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state.known && c.state.self.WritesTo == ""
}

const (
	finishLimit = 20 * time.Second
	breakLimit  = 3 * time.Second // for a run that was interrupted
)

// Finish records the outcome of the run, and waits for what is left to be sent;
// the rest waits in the spool.
func (r *Recorder) Finish(fin protocol.RunFinish) {
	r.logs.stop()
	r.c.Ending()
	r.add(protocol.Event{Finish: &fin})
	wait := finishLimit
	if fin.Interrupted {
		wait = breakLimit
	}
	limit := time.NewTimer(wait)
	defer limit.Stop()
	select {
	case <-r.ended:
	case <-limit.C:
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.refused != nil && !r.c.Down() { // otherwise that was said, with the reason
		r.c.Warn("the service does not record this run: " + r.refused.Error())
	}
	if r.sent < len(r.all) && !r.dropped {
		run := r.describe()
		run.Graph = r.named
		r.c.spool("run", r.id, spooled{Run: &run, Graph: r.graph, Events: r.all, Logs: r.made})
	}
	if fin.Interrupted {
		r.c.backlog.end(0)
	} else {
		r.c.backlog.end(backlogLimit)
	}
}
