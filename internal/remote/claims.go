package remote

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"grayloft.example/grayloft/internal/protocol"
)

// Claim announces that a task is about to run and to be shared, or tells who runs it. It
// fills in the shelf.
func (c *Client) Claim(ctx context.Context, in protocol.Claim) (answer protocol.ClaimAnswer, err error) {
	if in.Shelf = c.shelf(); in.Shelf == "" {
		return answer, protocol.ErrDown
	}
	err = c.away(c.try(ctx, http.MethodPost, "claims", in, &answer))
	if h := answer.Held; h != nil && (h.ID <= 0 || !isDuration(h.Elapsed) || !isDuration(h.Seconds)) {
		answer.Held = nil
	}
	return answer, err
}

// RenewClaim extends a claim. The error wraps [protocol.ErrGone] if it ended, and is
// [protocol.ErrDown] if the service was given up and is not asked again.
func (c *Client) RenewClaim(ctx context.Context, id int64) error {
	return c.away(goneIfMissing(c.try(ctx, http.MethodPost, fmt.Sprintf("claims/%d/renew", id), nil, nil)))
}

// EndClaim ends a claim without a result. It asks once, even if the service was given up:
// others wait.
func (c *Client) EndClaim(ctx context.Context, id int64, end protocol.ClaimEnd) error {
	path := fmt.Sprintf("claims/%d?end=%s", id, url.QueryEscape(string(end)))
	resp, err := c.once(ctx, request{method: http.MethodDelete, path: path}, nil)
	if err == nil {
		err = resp.Body.Close()
	}
	return goneIfMissing(err)
}

func goneIfMissing(err error) error {
	var r refusal
	if errors.As(err, &r) && r.Status == http.StatusNotFound {
		return protocol.ErrGone
	}
	return err
}

// FollowLog returns what a task that runs in another run has printed, from a line on.
func (c *Client) FollowLog(ctx context.Context, run, task string, first int) ([]string, error) {
	var log protocol.Log
	path := fmt.Sprintf("runs/%s/log?task=%s&first=%d", url.PathEscape(run), url.QueryEscape(task), first)
	if err := c.plainly(ctx, http.MethodGet, path, nil, &log); err != nil {
		return nil, err
	}
	lines := make([]string, len(log.Lines))
	for i, l := range log.Lines {
		lines[i] = l.Text
	}
	return lines, nil
}
