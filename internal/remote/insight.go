package remote

import (
	"context"
	"fmt"
	"net/url"
	"strconv"

	"grayloft.example/grayloft/internal/protocol"
)

// Tasks returns what happened to tasks in a number of weeks, those that took most
// time first.
func (c *Client) Tasks(ctx context.Context, weeks, limit int) (page protocol.TaskPage, err error) {
	return page, c.try(ctx, "GET", fmt.Sprintf("tasks?weeks=%d&limit=%d", weeks, limit), nil, &page)
}

// Task returns how one task behaved in a number of weeks.
func (c *Client) Task(ctx context.Context, task string, weeks int) (b protocol.TaskBehaviour, err error) {
	return b, c.try(ctx, "GET", "tasks/"+url.PathEscape(task)+"?weeks="+strconv.Itoa(weeks), nil, &b)
}

// Advice returns what is worth changing, from a number of weeks.
func (c *Client) Advice(ctx context.Context, weeks int) (page protocol.AdvicePage, err error) {
	return page, c.try(ctx, "GET", "advice?weeks="+strconv.Itoa(weeks), nil, &page)
}

// TaskOfRun returns what a task of a recorded run was built from.
func (c *Client) TaskOfRun(ctx context.Context, run, task string) (d protocol.TaskDetail, err error) {
	return d, c.try(ctx, "GET", "runs/"+url.PathEscape(run)+"/task?task="+url.QueryEscape(task), nil, &d)
}
