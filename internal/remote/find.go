package remote

import (
	"context"
	"net/url"
	"strconv"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Entries returns entries of a task, newest first: all, or those of a run,
// place or maker, or those whose key starts with of.
func (c *Client) Entries(ctx context.Context, task, of string, limit int) ([]protocol.Entry, error) {
	q := url.Values{"task": {task}, "limit": {strconv.Itoa(limit)}}
	if of != "" {
		q.Set("of", of)
	}
	var page protocol.EntryPage
	err := c.try(ctx, "GET", "entries?"+q.Encode(), nil, &page)
	return soundEntries(page.Entries), err
}

// LastGood returns commits of a branch (of any branch if it is empty) whose run
// on the trusted shelf passed, newest first.
func (c *Client) LastGood(ctx context.Context, branch string) ([]protocol.GoodCommit, error) {
	var good protocol.LastGood
	err := c.try(ctx, "GET", "last-good?"+url.Values{"branch": {branch}}.Encode(), nil, &good)
	return soundCommits(good.Commits), err
}

// FailedOn returns the tasks whose last result on a branch failed.
func (c *Client) FailedOn(ctx context.Context, branch string) ([]string, error) {
	var failed protocol.Failed
	err := c.try(ctx, "GET", "failed?"+url.Values{"branch": {branch}}.Encode(), nil, &failed)
	return failed.Tasks, err
}

// Run returns one run with its tasks.
func (c *Client) Run(ctx context.Context, id string) (protocol.RunDetail, error) {
	var d protocol.RunDetail
	err := c.try(ctx, "GET", "runs/"+url.PathEscape(id), nil, &d)
	return d, err
}

// WhoAmI returns whose token this is, without starting anything else and without
// a warning: the error can be explained with [Explain].
func (c *Client) WhoAmI(ctx context.Context) (protocol.Self, error) {
	var self protocol.Self
	err := c.try(ctx, "GET", "self", nil, &self)
	return self, err
}

// Parts returns the durations of tasks in seconds; everybody who divides work
// under a digest gets the same answer.
func (c *Client) Parts(ctx context.Context, under digest.Digest, tasks []string) (map[string]float64, error) {
	var answer protocol.PartsAnswer
	err := c.try(ctx, "POST", "parts/"+under.String(), protocol.PartsQuestion{Tasks: tasks}, &answer)
	return soundSeconds(answer.Seconds), err
}

// Rotate gives the token a new secret, and returns it.
func (c *Client) Rotate(ctx context.Context) (protocol.Rotated, error) {
	var r protocol.Rotated
	err := c.try(ctx, "POST", "self/rotate", nil, &r)
	return r, err
}
