package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

// A service that was given up is asked again whether it answers: it may have been restarted.
const (
	firstAsk    = 2 * time.Second // after it was given up; then twice as long each time, in all outages of a run
	laterAsk    = time.Minute     // at most
	mostOutages = 3               // after that many it is not asked again: it comes and goes
	askLimit    = 2 * time.Second // for the answer
	selfLimit   = 1 << 20         // bytes of the answer
)

// outage is what a client knows of a service that was given up.
type outage struct {
	since time.Time     // when it was given up or last asked
	pause time.Duration // until it is asked again; 0: it was never given up
	final bool          // it is not asked again
	count int           // outages in this run, with this one
}

// begin notes that the service was given up because of an error.
func (o *outage) begin(err error) {
	o.count++
	o.since, o.final = time.Now(), o.count >= mostOutages || !passes(err)
	o.next()
}

func (o *outage) next() { o.pause = max(firstAsk, min(2*o.pause, laterAsk)) }

// passes tells whether an error may have gone a moment later: a connection or a time limit is
// to blame, or the service said that it is not its fault.
func passes(err error) bool {
	var r refusal
	var op *net.OpError
	if errors.As(err, &r) {
		return r.Status >= 500 || r.Status == http.StatusTooManyRequests
	}
	return isTimeout(err) || errors.As(err, &op) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// Down tells whether the service is given up. It may answer again later.
func (c *Client) Down() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if o := &c.outage; c.state.down && !o.final && time.Since(o.since) >= o.pause {
		o.since = time.Now()
		o.next()
		go c.ask()
	}
	return c.state.down
}

// mayReturn tells whether the service is given up, and may answer again.
func (c *Client) mayReturn() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state.down && !c.outage.final
}

// errAway is returned instead of [protocol.ErrDown] where it matters that the service may
// answer again in a moment.
var errAway = errors.New("the service does not answer at the moment")

func (c *Client) away(err error) error {
	if errors.Is(err, protocol.ErrDown) && c.mayReturn() {
		return errAway
	}
	return err
}

// ask uses the service again if it answers. It gets little time at first: one that only
// answers this question costs the run next to nothing.
func (c *Client) ask() {
	ctx, cancel := context.WithTimeout(context.Background(), askLimit)
	defer cancel()
	resp, err := c.once(ctx, request{method: http.MethodGet, path: "self", header: http.Header{"Accept": {"application/json"}}}, nil)
	var self protocol.Self
	if err == nil {
		err = json.NewDecoder(io.LimitReader(resp.Body, selfLimit)).Decode(&self)
		_ = resp.Body.Close()
	}
	c.mu.Lock()
	if err != nil {
		c.outage.final = !passes(err)
		c.mu.Unlock()
		return
	}
	c.mu.Unlock()
	c.knows(self)
	c.ahead.renew()
	c.behind.renew()
	c.mu.Lock()
	c.state.down = false
	c.mu.Unlock()
	c.Warn(fmt.Sprintf("the service at %s answers again: the run uses it", c.base))
	if c.store != nil {
		c.backlog.begin(inBackground(context.Background()), c.sendSpooled)
	}
}
