package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// spooled is an item that waits to be sent: an entry, or the record of a run. It
// is sent only by who made it: under the same token, to the same shelf.
type spooled struct {
	Service string           `json:"service"`
	Repo    string           `json:"repo"`
	Token   identity         `json:"token"`
	Shelf   string           `json:"shelf"` // empty: the service had not answered yet
	Tries   int              `json:"tries,omitempty"`
	Entry   *protocol.Entry  `json:"entry,omitempty"`
	Blobs   []protocol.Blob  `json:"blobs,omitempty"`
	Run     *protocol.Run    `json:"run,omitempty"`
	Graph   *protocol.Graph  `json:"graph,omitempty"`
	Events  []protocol.Event `json:"events,omitempty"`
	Logs    []digest.Digest  `json:"logs,omitempty"`
}

// identity is a token, without its secret.
type identity struct {
	ID     int64  `json:"id"`     // at the service; 0: the service had not answered yet
	Secret string `json:"secret"` // a digest of its secret, which changes when it is rotated
}

func (c *Client) identity() identity {
	c.mu.Lock()
	defer c.mu.Unlock()
	d := digest.Derive("grayloft 2026-11-25 spool identity", []byte(c.token))
	return identity{c.state.self.ID, d.String()[:32]}
}

// is tells whether two identities are of one token.
func (i identity) is(other identity) bool {
	return i.Secret == other.Secret || i.ID != 0 && i.ID == other.ID
}

// mostTries is how often an item fails before it is set aside, while others are
// accepted.
const mostTries = 5

func (c *Client) spool(kind, name string, s spooled) string {
	s.Service, s.Repo, s.Token, s.Shelf = c.base, c.repo, c.identity(), c.shelf()
	name = kind + "-" + name + "-" + s.Token.Secret[:8] // another token's item is another file
	c.write(name, s)
	return name
}

func (c *Client) write(name string, s spooled) {
	data, err := json.Marshal(s)
	if err == nil {
		err = c.store.Spool(name, data)
	}
	if err != nil {
		c.Warn("storing what is to be sent later: " + err.Error())
	}
}

// mayBeSent tells whether an item was made under this client's token, for its
// service, repository and shelf. Others are left.
func (c *Client) mayBeSent(s spooled) bool {
	return s.Service == c.base && s.Repo == c.repo && s.Token.is(c.identity()) && (s.Shelf == "" || s.Shelf == c.shelf())
}

// sendSpooled sends what earlier runs could not send. Items that fail again
// stay; those that the service refuses for what they contain are set aside.
func (c *Client) sendSpooled(ctx context.Context) {
	names, err := c.store.Spooled()
	if err != nil {
		return
	}
	for _, name := range names {
		if c.Down() || c.isFull() || ctx.Err() != nil {
			return
		}
		data, err := c.store.ReadSpooled(name)
		if err != nil {
			continue // another client has sent it
		}
		var sp spooled
		if json.Unmarshal(data, &sp) != nil || sp.Entry == nil && sp.Run == nil {
			c.setAside(name, errors.New("it is damaged"))
			continue
		}
		if c.mayBeSent(sp) && sp.Run != nil && c.readsOnly() {
			_ = c.store.Unspool(name) // this token records nothing
			continue
		}
		if c.mayBeSent(sp) {
			// It stays in the spool until the service has it: a client that is
			// killed meanwhile loses nothing, and sending twice is harmless.
			c.settle(name, sp, c.sendOne(ctx, sp))
		}
	}
}

// settle decides what becomes of an item after an attempt to send it.
func (c *Client) settle(name string, sp spooled, err error) {
	var r refusal
	switch {
	case err == nil, errors.Is(err, os.ErrNotExist): // a part is no longer in this machine's cache
		_ = c.store.Unspool(name)
	case errors.Is(err, protocol.ErrFull), errors.Is(err, protocol.ErrDown):
	case !errors.As(err, &r), r.Status == http.StatusUnauthorized, r.Status == http.StatusForbidden,
		r.Status == http.StatusTooManyRequests: // not because of what it contains
	case r.Status < 500 || sp.Tries+1 >= mostTries:
		c.setAside(name, r)
	default:
		sp.Tries++
		c.write(name, sp)
	}
}

// setAside moves an item where it is not sent again, and names it.
func (c *Client) setAside(name string, why error) {
	file, err := c.store.SetAside(name)
	if err != nil {
		return // another client did it
	}
	c.Warn(fmt.Sprintf("what an earlier run could not send was refused (%v); it is set aside in %s", why, file))
}

func (c *Client) sendOne(ctx context.Context, s spooled) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	if s.Entry != nil {
		e := *s.Entry
		if e.Shelf == "" {
			e.Shelf = c.shelf()
		}
		if e.Shelf == "" {
			return refusal{Problem: protocol.Problem{Title: "this token writes to no shelf", Status: http.StatusForbidden}}
		}
		_, _, err := c.send(ctx, e, s.Blobs)
		return err
	}
	if err := c.sendLogs(ctx, s.Logs); err != nil {
		return err
	}
	if err := c.startRun(ctx, *s.Run, s.Graph); err != nil {
		return err
	}
	return c.postEvents(ctx, s.Run.ID, s.Events)
}

// backlog is the sending of what earlier runs left in the spool.
type backlog struct {
	sending sync.WaitGroup
	mu      sync.Mutex
	cancel  context.CancelFunc
	over    bool // nothing more begins
}

// backlogLimit is how long the end of a run waits for the backlog.
const backlogLimit = 5 * time.Second

// begin starts to send in the background, instead of what is being sent.
func (b *backlog) begin(ctx context.Context, send func(context.Context)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.over {
		return
	}
	if b.cancel != nil {
		b.cancel()
	}
	ctx, cancel := context.WithCancel(ctx)
	b.cancel = cancel
	b.sending.Go(func() {
		defer cancel()
		send(ctx)
	})
}

// end waits for at most limit, and then stops the sending: the rest stays in the
// spool for a later run.
func (b *backlog) end(limit time.Duration) {
	b.mu.Lock()
	cancel := b.cancel
	b.over = true
	b.mu.Unlock()
	if cancel == nil {
		return
	}
	timer := time.AfterFunc(limit, cancel)
	defer timer.Stop()
	b.sending.Wait()
}
