package remote

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

// expirySoon is how long before its expiry a token is warned about.
const expirySoon = 7 * 24 * time.Hour

// Self returns what the token may do, and sends what earlier runs left in the
// spool. With an error, it returns [Client.LastSelf].
func (c *Client) Self(ctx context.Context) (protocol.Self, error) {
	var self protocol.Self
	began := time.Now()
	if err := c.try(ctx, http.MethodGet, "self", nil, &self); err != nil {
		return c.withoutSelf(err)
	}
	c.knows(self)
	c.mu.Lock()
	c.state.near = loopback(c.base) && time.Since(began) < nearLimit
	c.mu.Unlock()
	if self.Expires != nil && time.Until(*self.Expires) < expirySoon {
		c.Warn(
			fmt.Sprintf(
				"the token %q expires on %s: ask for a new one before that",
				self.Name,
				self.Expires.Local().Format("2 January 2006, 15:04"),
			),
		)
	}
	if c.store != nil {
		c.backlog.begin(inBackground(ctx), c.sendSpooled)
	}
	return self, nil
}

// knows notes what the service says about the token.
func (c *Client) knows(self protocol.Self) {
	c.mu.Lock()
	c.state.self, c.state.known = self, true
	c.mu.Unlock()
	if c.store != nil && self.Repo == c.repo {
		c.store.KeepRights(c.base, c.repo, c.token, &self)
	}
}

// withoutSelf is what is known if the service does not say it. A refusal ends what it said
// before.
func (c *Client) withoutSelf(err error) (protocol.Self, error) {
	var r refusal
	if errors.As(err, &r) && !passes(err) && c.store != nil {
		c.store.KeepRights(c.base, c.repo, c.token, nil)
	}
	if !errors.Is(err, protocol.ErrDown) {
		err = c.trouble(err)
	}
	return c.LastSelf(), err
}

// LastSelf returns what the service last said that the token may do: what this machine has is
// used although the service does not answer. It is zero if that is not known, or too long ago.
func (c *Client) LastSelf() protocol.Self {
	if c.store == nil {
		return protocol.Self{}
	}
	self, _ := c.store.Rights(c.base, c.repo, c.token)
	return self
}
