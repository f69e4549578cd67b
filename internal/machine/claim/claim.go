// Package claim announces what a run is about to run and to share, and tells who else
// runs the same. A claim is advice: if the service does not answer, the task runs.
package claim

import (
	"context"
	"errors"
	"maps"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Service is the part of the shared cache that knows claims.
type Service interface {
	// Claim announces a task, or tells who runs it. The shelf is filled in.
	Claim(ctx context.Context, c protocol.Claim) (protocol.ClaimAnswer, error)
	// RenewClaim extends a claim; the error wraps [protocol.ErrGone] if it ended.
	RenewClaim(ctx context.Context, id int64) error
	// EndClaim ends a claim without a result.
	EndClaim(ctx context.Context, id int64, end protocol.ClaimEnd) error
	// FollowLog returns what a task that runs in another run has printed, from a line on.
	FollowLog(ctx context.Context, run, task string, first int) ([]string, error)
}

// Claims are those of one run. They are safe for concurrent use.
type Claims struct {
	Service Service
	Run     string
	Maker   func() protocol.Maker

	mu      sync.Mutex
	granted map[digest.Digest]int64
	waited  map[digest.Digest]told // the claims of others that were last waited for
	stored  map[digest.Digest]bool // results that were said to be stored, once
	failed  time.Time              // when the service last did not answer
	renewer Renewer
}

// patience is how long a request about a claim may take. A service that does not answer
// within it is left alone for a lease.
const patience = 2 * time.Second

// forgiven is for how long a client waits on when the service does not answer about the claim, as
// during a restart: otherwise all clients that wait would run the task at the same moment.
const forgiven = protocol.ClaimLease / 2

// told is a claim of another client, and when the service told of it.
type told struct {
	claim protocol.HeldClaim
	at    time.Time
}

// since returns the claim as it is expected to be now, if the service told of it a moment
// ago.
func (t told) since() *protocol.HeldClaim {
	age := time.Since(t.at)
	if t.claim.ID == 0 || age > forgiven {
		return nil
	}
	t.claim.Elapsed += age.Seconds()
	return &t.claim
}

// atOnce is how many claims are ended at the same time.
const atOnce = 16

// Request is a task that is about to run.
type Request struct {
	Task    string
	Key     digest.Digest
	Seconds float64 // that it is expected to take; 0: unknown

	// The following matter in a run of several machines alone.
	Shareable   bool // its result may leave this machine
	Once        bool // it must not run twice
	Ingredients func() map[string]string
}

// Answer is what to know before a task runs.
type Answer struct {
	Held   *protocol.HeldClaim // by another client; nil: nobody is waited for
	Stored bool                // its result came in meanwhile

	// In a run of several machines:
	Must    bool                // it is waited for, however long it takes
	Done    *protocol.HeldClaim // another member ran it; nothing is to be fetched
	Failure string              // why it cannot pass any more
}

// Ending is how a task ended whose result is not uploaded.
type Ending struct {
	Outcome decide.Outcome // empty: it is settled again
	Message string         // of a failure
}

// Take claims a task. What goes wrong is no reason not to run it.
func (c *Claims) Take(ctx context.Context, r Request) Answer {
	m := c.Maker()
	c.mu.Lock()
	last, silent := c.waited[r.Key], time.Since(c.failed) < protocol.ClaimLease
	c.mu.Unlock()
	if silent && last.since() == nil {
		return Answer{}
	}
	once, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	answer, err := c.Service.Claim(once, protocol.Claim{
		Key: r.Key, Run: c.Run, Task: r.Task, Seconds: r.Seconds, Host: m.Host, Place: m.Place, After: last.claim.ID,
	})
	c.mu.Lock()
	defer c.mu.Unlock()
	if err != nil {
		c.failed = time.Now()
		if errors.Is(err, protocol.ErrDown) {
			return Answer{} // no result can be fetched
		}
		return Answer{Held: last.since()}
	}
	c.failed = time.Time{}
	switch {
	case answer.Held != nil:
		if c.waited == nil {
			c.waited = map[digest.Digest]told{}
		}
		c.waited[r.Key] = told{*answer.Held, time.Now()}
	case answer.Granted > 0:
		c.grant(r.Key, answer.Granted)
	case answer.Stored && !c.stored[r.Key]:
		if c.stored == nil {
			c.stored = map[digest.Digest]bool{}
		}
		c.stored[r.Key] = true // if it cannot be used, the task runs the next time
		return Answer{Stored: true}
	}
	return Answer{Held: answer.Held}
}

// Follow returns what a task has printed in the run that claimed it, from a line on.
func (c *Claims) Follow(ctx context.Context, run, task string, first int) []string {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	lines, _ := c.Service.FollowLog(ctx, run, task, first) // what cannot be told is not printed
	return lines
}

// grant notes a claim, and starts to renew.
func (c *Claims) grant(k digest.Digest, id int64) {
	if c.granted == nil {
		c.granted = map[digest.Digest]int64{}
	}
	c.granted[k] = id
	c.renewer.Start(protocol.ClaimLease, c.renew)
}

// renew extends all claims, and forgets those that ended. It ends all if the service was
// given up.
func (c *Claims) renew() {
	for k, id := range c.all() {
		ctx, cancel := context.WithTimeout(context.Background(), protocol.ClaimLease/3)
		err := c.Service.RenewClaim(ctx, id)
		cancel()
		switch {
		case errors.Is(err, protocol.ErrDown): // nothing can be shared any more
			c.endAll(context.Background())
			return
		case errors.Is(err, protocol.ErrGone):
			c.mu.Lock()
			if c.granted[k] == id {
				delete(c.granted, k)
			}
			c.mu.Unlock()
		}
	}
}

func (c *Claims) all() map[digest.Digest]int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return maps.Clone(c.granted)
}

// Uploaded ends the claim of a task whose upload ended. If the service has the result, the
// claim ended by that.
func (c *Claims) Uploaded(k digest.Digest, shared bool) {
	if shared {
		c.forget(k)
		return
	}
	c.end(context.Background(), k, protocol.ClaimUnshared)
}

// forget returns the number of a claim that was granted, and forgets it; 0: there is none.
func (c *Claims) forget(k digest.Digest) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	id := c.granted[k]
	delete(c.granted, k)
	return id
}

// End ends the claim of a task that has no result that can be fetched.
func (c *Claims) End(ctx context.Context, k digest.Digest, e Ending) {
	end := protocol.ClaimUnshared
	if e.Outcome != "" && e.Outcome != decide.Ran {
		end = protocol.ClaimFailed
	}
	c.end(ctx, k, end)
}

func (c *Claims) end(ctx context.Context, k digest.Digest, end protocol.ClaimEnd) {
	if id := c.forget(k); id > 0 {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		_ = c.Service.EndClaim(ctx, id, end) // otherwise it ends with its lease
	}
}

// Finish ends what is left, once all uploads ended, and stops to renew.
func (c *Claims) Finish(ctx context.Context) {
	c.mu.Lock()
	wait := c.renewer.Halt()
	c.mu.Unlock()
	if wait == nil {
		return
	}
	wait()
	c.endAll(ctx)
}

func (c *Claims) endAll(ctx context.Context) {
	var all errgroup.Group
	all.SetLimit(atOnce)
	for k := range c.all() {
		all.Go(func() error { c.end(ctx, k, protocol.ClaimUnshared); return nil })
	}
	_ = all.Wait()
}
