package remote

import (
	"context"
	"net/http"
	"net/url"

	"grayloft.example/grayloft/internal/protocol"
)

// Join makes a run a member of a run of several machines.
func (c *Client) Join(ctx context.Context, h protocol.JoinHello) (joined protocol.JoinWelcome, err error) {
	return joined, c.plainly(ctx, http.MethodPost, "joins", h, &joined)
}

// JoinStep asks what to do with a task that is about to run.
func (c *Client) JoinStep(ctx context.Context, join string, a protocol.JoinAsk) (answer protocol.JoinAnswer, err error) {
	err = c.plainly(ctx, http.MethodPost, "joins/"+url.PathEscape(join)+"/tasks", a, &answer)
	if o := answer.Other; o != nil && (!isDuration(o.Elapsed) || !isDuration(o.Seconds)) {
		o.Elapsed, o.Seconds = 0, 0
	}
	return answer, err
}

// JoinReport says how tasks of this member stand.
func (c *Client) JoinReport(ctx context.Context, join string, r protocol.JoinReport) error {
	return c.plainly(ctx, http.MethodPost, "joins/"+url.PathEscape(join)+"/reports", r, nil)
}
