package remote

import (
	"context"
	"sync"
	"time"
)

// A service gets this much time without moving useful bytes, in all requests of a
// run together that the run waits for; the same again for those at its end.
const (
	patienceLimit = 5 * time.Second
	briefLimit    = 500 * time.Millisecond // of a service that used up all of it less than briefFor ago
	briefFor      = time.Minute
	leastRate     = 64 << 10               // bytes per second: a service that is slower counts as waited for
	leastAtEnd    = 256 << 10              // the same while the run waits for nothing else
	freeAnswer    = 250 * time.Millisecond // of each request that is answered: distance is no fault
)

// patience measures how long a run waits for a service that moves nothing
// useful, in any number of requests at a time. Time passes while requests are
// open, and is made up for by bytes that pass. Once it is over, all requests are
// cancelled.
type patience struct {
	mu      sync.Mutex
	limit   time.Duration
	forgets bool    // every answer makes up for all of the time
	rate    float64 // bytes per second that make up for the time
	open    map[*wait]bool
	since   time.Time
	spent   time.Duration
	timer   *time.Timer
	over    bool
}

// wait is one open request.
type wait struct {
	p      *patience
	began  time.Time
	cancel context.CancelFunc
}

func newPatience(forgets bool) *patience {
	return &patience{limit: patienceLimit, forgets: forgets, rate: leastRate, open: map[*wait]bool{}}
}

// begin notes that a request is open. Cancel ends it once the patience is over.
func (p *patience) begin(parent context.Context) (context.Context, *wait) {
	ctx, cancel := context.WithCancel(parent)
	w := &wait{p, time.Now(), cancel}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.account()
	p.open[w] = true
	p.arm()
	return ctx, w
}

// end notes that a request has ended, with an answer or without one.
func (w *wait) end(answered bool) {
	p := w.p
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.open[w] {
		return
	}
	p.account()
	delete(p.open, w)
	w.cancel()
	switch {
	case answered && p.forgets:
		p.spent = 0
	case answered:
		p.makeUp(min(time.Since(w.began), freeAnswer))
	}
}

// moved notes that useful bytes have passed.
func (p *patience) moved(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.account()
	p.makeUp(time.Duration(float64(n) / p.rate * float64(time.Second)))
}

// makeUp takes off time that was spent. Time that was forgiven beforehand stays.
func (p *patience) makeUp(d time.Duration) {
	if p.spent > 0 {
		p.spent = max(0, p.spent-d)
	}
}

// forgive gives a request more time: the service has to work on it.
func (p *patience) forgive(more time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.spent -= more
}

// isOver tells whether the requests were cancelled.
func (p *patience) isOver() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.over
}

// sharpen makes the patience strict: from now on the run waits for these
// requests alone.
func (p *patience) sharpen() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.account()
	if p.forgets {
		p.forgets, p.rate, p.spent = false, leastAtEnd, min(p.spent, 0)
		p.arm()
	}
}

func (p *patience) account() {
	now := time.Now()
	if len(p.open) > 0 {
		p.spent += now.Sub(p.since)
	}
	p.since = now
}

// arm sets the timer to the earliest moment at which the patience can be over.
func (p *patience) arm() {
	if p.timer != nil {
		p.timer.Stop()
	}
	p.timer = time.AfterFunc(max(p.limit-p.spent, time.Millisecond), p.check)
}

func (p *patience) check() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.account()
	switch {
	case len(p.open) == 0:
	case p.spent < p.limit:
		p.arm()
	default:
		p.cancel()
	}
}

func (p *patience) cancel() {
	p.over = true
	for w := range p.open {
		w.cancel()
	}
}

// end cancels all requests: the service was given up.
func (p *patience) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cancel()
}

// isBrief tells whether less than all of the time was given.
func (p *patience) isBrief() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.limit < patienceLimit
}

// renew gives the service time again, little at first.
func (p *patience) renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.account()
	p.over, p.spent, p.limit = false, 0, briefLimit
}

func (p *patience) set(limit time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.limit = limit
}

type backgroundKey struct{}

// inBackground marks requests that a run does not wait for.
func inBackground(ctx context.Context) context.Context {
	return context.WithValue(ctx, backgroundKey{}, true)
}

// patienceFor returns what measures a request.
func (c *Client) patienceFor(ctx context.Context) *patience {
	if ctx.Value(backgroundKey{}) != nil {
		return c.behind
	}
	return c.ahead
}

// Hurry gives a service that did not answer a moment ago a tenth of the time: whoever runs one
// command after another does not wait for it each time.
func (c *Client) Hurry() {
	if age := time.Since(c.store.SilentSince(c.base)); age >= 0 && age < briefFor {
		c.allow(briefLimit)
	}
}

// Insist gives a service all of the time again: what follows cannot be done without it.
func (c *Client) Insist() { c.allow(patienceLimit) }

func (c *Client) allow(limit time.Duration) {
	c.ahead.set(limit)
	c.behind.set(limit)
}

// silent ends all requests to a service that does not answer. It notes that for the next commands,
// unless the service had little time: after a while it gets all of it again.
func (c *Client) silent() {
	c.ahead.end()
	c.behind.end()
	if c.store != nil && !c.ahead.isBrief() {
		c.store.KeepSilence(c.base, true)
	}
}

// answered notes that the service answers.
func (c *Client) answered() {
	if c.ahead.isBrief() {
		c.Insist()
		c.store.KeepSilence(c.base, false)
	}
}

// Ending says that the run waits for nothing but requests in the background from
// now on.
func (c *Client) Ending() { c.behind.sharpen() }
