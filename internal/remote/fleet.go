package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// plainly sends and receives JSON once. The answer may take as long as the context allows:
// the service holds some of these requests until there is news.
func (c *Client) plainly(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/"+protocol.Version+"/"+url.PathEscape(c.repo)+"/"+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Accept", "application/json")
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var lost *url.Error
		if errors.As(err, &lost) {
			err = lost.Err // without the address, which the caller names
		}
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		r := refusalOf(resp)
		switch resp.StatusCode {
		case http.StatusNotFound, http.StatusConflict:
			return fmt.Errorf("%w: %s", protocol.ErrGone, r.Error())
		}
		return r
	}
	if out == nil {
		return nil
	}
	return decodeAnswer(resp.Body, out)
}

// Register makes a runner known to the service.
func (c *Client) Register(ctx context.Context, in protocol.RunnerHello) (known protocol.RunnerKnown, err error) {
	return known, c.plainly(ctx, http.MethodPost, "runners", in, &known)
}

// NextWork reports what a runner does, and waits for work or for jobs to stop.
func (c *Client) NextWork(ctx context.Context, runner int64, q protocol.WorkQuestion) (answer protocol.WorkAnswer, err error) {
	return answer, c.plainly(ctx, http.MethodPost, fmt.Sprintf("runners/%d/next", runner), q, &answer)
}

// LeaveFleet says that a runner ends.
func (c *Client) LeaveFleet(ctx context.Context, runner int64) error {
	return c.plainly(ctx, http.MethodDelete, fmt.Sprintf("runners/%d", runner), nil, nil)
}

// StartJob asks for the token of a job.
func (c *Client) StartJob(ctx context.Context, job int64, s protocol.JobStart) (started protocol.JobStarted, err error) {
	return started, c.plainly(ctx, http.MethodPost, fmt.Sprintf("jobs/%d/start", job), s, &started)
}

// SendJobLines sends what a job printed.
func (c *Client) SendJobLines(ctx context.Context, job int64, l protocol.JobLines) error {
	return c.plainly(ctx, http.MethodPost, fmt.Sprintf("jobs/%d/output", job), l, nil)
}

// EndJob says how a job ended.
func (c *Client) EndJob(ctx context.Context, job int64, e protocol.JobEnd) error {
	return c.plainly(ctx, http.MethodPost, fmt.Sprintf("jobs/%d/end", job), e, nil)
}

// SendChanges uploads local changes, which are in the store.
func (c *Client) SendChanges(ctx context.Context, d digest.Digest) error {
	size, err := c.store.Size(d)
	if err != nil {
		return err
	}
	lack, err := c.missing(ctx, []digest.Digest{d})
	if err == nil {
		_, err = c.upload(ctx, []protocol.Blob{{Digest: d, Size: size}}, lack)
	}
	return err
}

// Request asks for a run on runners.
func (c *Client) Request(ctx context.Context, a protocol.Ask) (made protocol.RequestMade, err error) {
	return made, c.plainly(ctx, http.MethodPost, "requests", a, &made)
}

// Requests returns requests, newest first; query is the query of the address.
func (c *Client) Requests(ctx context.Context, query url.Values) (page protocol.RequestPage, err error) {
	return page, c.plainly(ctx, http.MethodGet, "requests?"+query.Encode(), nil, &page)
}

// RequestOf returns one request.
func (c *Client) RequestOf(ctx context.Context, id int64) (q protocol.Request, err error) {
	return q, c.plainly(ctx, http.MethodGet, fmt.Sprintf("requests/%d", id), nil, &q)
}

// OutputOf returns what a request printed from a line on; it waits some seconds for it.
func (c *Client) OutputOf(ctx context.Context, id int64, first, wait int) (out protocol.Output, err error) {
	return out, c.plainly(ctx, http.MethodGet, fmt.Sprintf("requests/%d/output?first=%d&wait=%d", id, first, wait), nil, &out)
}

// PlanOf returns the plan of a preview, as JSON.
func (c *Client) PlanOf(ctx context.Context, id int64) (text json.RawMessage, err error) {
	return text, c.plainly(ctx, http.MethodGet, fmt.Sprintf("requests/%d/plan", id), nil, &text)
}

// CancelRequest cancels a request.
func (c *Client) CancelRequest(ctx context.Context, id int64) error {
	return c.plainly(ctx, http.MethodPost, fmt.Sprintf("requests/%d/cancel", id), nil, nil)
}

// FleetNow returns what is being worked on, and by whom.
func (c *Client) FleetNow(ctx context.Context) (f protocol.Fleet, err error) {
	return f, c.plainly(ctx, http.MethodGet, "fleet", nil, &f)
}

// Protect changes what is protected.
func (c *Client) Protect(ctx context.Context, p protocol.Protection) error {
	return c.plainly(ctx, http.MethodPut, "protection", p, nil)
}
