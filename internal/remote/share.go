package remote

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Queue stores an entry in the spool, with all the blobs that it names, and
// returns what sends it. Until that is done, neither the end of the run nor a
// killed client loses it.
func (c *Client) Queue(
	e protocol.Entry, blobs []protocol.Blob,
) (send func(context.Context) (int64, protocol.Filed, error), err error) {
	e.Shelf = c.shelf()
	for _, d := range append([]digest.Digest{e.Listing, e.Log, e.Ingredients, e.Reports}, e.Refs...) {
		if !d.IsZero() && !slices.ContainsFunc(blobs, func(b protocol.Blob) bool { return b.Digest == d }) {
			size, err := c.store.Size(d)
			if err != nil {
				return nil, err
			}
			blobs = append(blobs, protocol.Blob{Digest: d, Size: size})
		}
	}
	name := c.spool("entry", e.Key.String(), spooled{Entry: &e, Blobs: blobs})
	return func(ctx context.Context) (int64, protocol.Filed, error) {
		if c.isFull() {
			return 0, protocol.Filed{}, protocol.ErrFull
		}
		ctx = inBackground(ctx)
		moved, filed, err := c.send(ctx, e, blobs)
		if !later(ctx, err) {
			_ = c.store.Unspool(name) // otherwise it is sent again, which is harmless
		}
		return moved, filed, err
	}, nil
}

// shelf returns the shelf that entries of this run go to; empty if the service
// has not answered yet.
func (c *Client) shelf() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	shelf := c.state.self.WritesTo
	if strings.HasSuffix(shelf, "/*") {
		shelf = strings.TrimSuffix(shelf, "*") + "default"
	}
	return shelf
}

// Share uploads an entry with all the blobs that it names.
func (c *Client) Share(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error) {
	send, err := c.Queue(e, blobs)
	if err != nil {
		return 0, protocol.Filed{}, err
	}
	return send(ctx)
}

// later tells whether it is worth sending again in a later run.
func later(ctx context.Context, err error) bool {
	return err != nil &&
		(errors.Is(err, protocol.ErrDown) || errors.Is(err, protocol.ErrFull) || errors.Is(err, context.DeadlineExceeded) ||
			ctx.Err() != nil)
}

// noRoom notes that the service has no room: this run sends nothing more.
// Fetching still works.
func (c *Client) noRoom(r refusal) error {
	c.mu.Lock()
	first := !c.state.full
	c.state.full = true
	c.mu.Unlock()
	if first {
		c.Warn(
			fmt.Sprintf("the service at %s has no room for new results (%s); they are kept, and a later run sends them", c.base, r.Error()),
		)
	}
	return protocol.ErrFull
}

func (c *Client) isFull() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state.full
}

func (c *Client) send(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error) {
	var moved int64
	var filed protocol.Filed
	path := "entries/" + e.Key.String() + "?shelf=" + url.QueryEscape(e.Shelf)
	if e.Again {
		path, e.Again = path+"&again=true", false
	}
	ask := make([]digest.Digest, len(blobs))
	for i, b := range blobs {
		ask[i] = b.Digest
	}
	lack, err := c.missing(ctx, ask)
	if err != nil {
		return 0, filed, err
	}
	for try := 0; ; try++ {
		n, err := c.upload(ctx, blobs, lack)
		moved += n
		if err != nil {
			return moved, filed, err
		}
		err = c.try(ctx, http.MethodPut, path, e, &filed)
		var r refusal
		switch {
		case err == nil:
			return moved, filed, nil
		case errors.As(err, &r) && r.Status == http.StatusConflict && len(r.Missing) > 0 && try < 2:
			lack = r.Missing
		case errors.As(err, &r) && r.Status < 500:
			return moved, filed, fmt.Errorf("the service refuses it: %w", err)
		default:
			return moved, filed, c.failed(ctx, err)
		}
	}
}

// Withdraw makes the service never offer a listing under a key again, on the shelf that the token
// writes to.
func (c *Client) Withdraw(ctx context.Context, key, list digest.Digest) (done protocol.Withdrawn, err error) {
	return done, c.plainly(ctx, http.MethodPost, "entries/"+key.String()+"/withdraw", protocol.Withdrawal{Listing: list}, &done)
}
