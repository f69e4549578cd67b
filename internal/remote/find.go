package remote

import (
	"context"
	"net/url"
	"strconv"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Entries returns entries of a task, the newest first: all, or those of a run,
// a place or a maker, or whose key begins with of.
func (c *Client) Entries(ctx context.Context, task, of string, limit int) ([]protocol.Entry, error) {
	q := url.Values{"task": {task}, "limit": {strconv.Itoa(limit)}}
	if of != "" {
		q.Set("of", of)
	}
	var page protocol.EntryPage
	err := c.try(ctx, "GET", "entries?"+q.Encode(), nil, &page)
	return page.Entries, err
}

// Good returns commits of a branch (of any, where it is empty) whose run on the
// trusted shelf was all right, the newest first.
func (c *Client) LastGood(ctx context.Context, branch string) ([]protocol.GoodCommit, error) {
	var good protocol.LastGood
	err := c.try(ctx, "GET", "last-good?"+url.Values{"branch": {branch}}.Encode(), nil, &good)
	return good.Commits, err
}

// Run returns one run with its tasks.
func (c *Client) Run(ctx context.Context, id string) (protocol.RunDetail, error) {
	var d protocol.RunDetail
	err := c.try(ctx, "GET", "runs/"+url.PathEscape(id), nil, &d)
	return d, err
}

// Who says whose token this is, without anything else that a run begins with.
func (c *Client) WhoAmI(ctx context.Context) (protocol.Self, error) {
	var self protocol.Self
	err := c.call(ctx, "GET", "self", nil, &self)
	return self, err
}

// Parts returns how many seconds tasks took, as all agree on it who divide work
// under a digest.
func (c *Client) Parts(ctx context.Context, under digest.Digest, tasks []string) (map[string]float64, error) {
	var answer protocol.PartsAnswer
	err := c.try(ctx, "POST", "parts/"+under.String(), protocol.PartsQuestion{Tasks: tasks}, &answer)
	return answer.Seconds, err
}

// Rotate gives the token a new secret, and returns it.
func (c *Client) Rotate(ctx context.Context) (protocol.Rotated, error) {
	var r protocol.Rotated
	err := c.try(ctx, "POST", "self/rotate", nil, &r)
	return r, err
}
