package remote

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// spooled is an item that waits to be sent: an entry, or the record of a run.
type spooled struct {
	Service string           `json:"service"`
	Repo    string           `json:"repo"`
	Entry   *protocol.Entry  `json:"entry,omitempty"`
	Blobs   []protocol.Blob  `json:"blobs,omitempty"`
	Run     *protocol.Run    `json:"run,omitempty"`
	Events  []protocol.Event `json:"events,omitempty"`
	Logs    []digest.Digest  `json:"logs,omitempty"`
}

func (c *Client) spool(kind, name string, s spooled) string {
	name = kind + "-" + name
	s.Service, s.Repo = c.base, c.repo
	data, err := json.Marshal(s)
	if err == nil {
		err = c.store.Spool(name, data)
	}
	if err != nil {
		c.Warn("storing what is to be sent later: " + err.Error())
	}
	return name
}

// sendSpooled sends what earlier runs could not send, for this service and
// repository. Items that fail again stay.
func (c *Client) sendSpooled(ctx context.Context) {
	names, err := c.store.Spooled()
	if err != nil {
		return
	}
	for _, name := range names {
		data, err := c.store.ReadSpooled(name)
		if err != nil {
			continue // another client has sent it
		}
		var sp spooled
		if json.Unmarshal(data, &sp) != nil {
			_ = c.store.Unspool(name) // damaged: it can never be sent
			continue
		}
		if sp.Service != c.base || sp.Repo != c.repo {
			continue
		}
		// It stays in the spool until the service has it: a client that is
		// killed meanwhile loses nothing, and sending twice is harmless.
		err = c.sendOne(ctx, sp)
		var r refusal
		if err == nil || errors.As(err, &r) && !errors.Is(err, protocol.ErrFull) || errors.Is(err, os.ErrNotExist) {
			_ = c.store.Unspool(name)
		}
		if c.Down() || c.isFull() || ctx.Err() != nil {
			return
		}
	}
}

func (c *Client) sendOne(ctx context.Context, s spooled) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	if s.Entry != nil {
		_, _, err := c.send(ctx, *s.Entry, s.Blobs)
		return err
	}
	if err := c.sendLogs(ctx, s.Logs); err != nil {
		return err
	}
	if err := c.call(ctx, http.MethodPost, "runs", s.Run, nil); err != nil {
		return err
	}
	return c.postEvents(ctx, s.Run.ID, s.Events)
}

// backlog is the sending of what earlier runs left in the spool.
type backlog struct {
	sending sync.WaitGroup
	mu      sync.Mutex
	cancel  context.CancelFunc
}

// backlogLimit is how long the end of a run waits for the backlog.
const backlogLimit = 5 * time.Second

// begin starts to send in the background.
func (b *backlog) begin(ctx context.Context, send func(context.Context)) {
	ctx, cancel := context.WithCancel(ctx)
	b.mu.Lock()
	b.cancel = cancel
	b.mu.Unlock()
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
	b.mu.Unlock()
	if cancel == nil {
		return
	}
	timer := time.AfterFunc(limit, cancel)
	defer timer.Stop()
	b.sending.Wait()
}
