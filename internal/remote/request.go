package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"

	"grayloft.example/grayloft/internal/protocol"
)

// request is what is sent to the service. Body, if not nil, returns the body for
// each attempt.
type request struct {
	method string
	path   string // below the repository
	header http.Header
	body   func() io.Reader
	length int64 // -1: not known
	once   bool  // after a cut the caller decides what is sent again
}

const (
	retries      = 2                      // after a cut connection or a gateway error
	firstPause   = 100 * time.Millisecond // before the first retry
	laterRetries = 8                      // if the service asks to come back later
	longestPause = 10 * time.Second
)

// request sends a request, and repeats it if that may help: the service asked
// to come back later, the connection was cut, or a gateway failed. The caller
// must close the body of the answer; a status of 300 and above is returned as a
// refusal.
func (c *Client) request(ctx context.Context, q request) (*http.Response, error) {
	pauses := &backoff.ExponentialBackOff{InitialInterval: firstPause, RandomizationFactor: 0.2, Multiplier: 4, MaxInterval: longestPause}
	patience := c.patienceFor(ctx)
	inner, open := patience.begin(ctx)
	tries := 0
	resp, err := backoff.Retry(inner, func() (*http.Response, error) {
		if c.Down() {
			return nil, backoff.Permanent(protocol.ErrDown)
		}
		resp, err := c.once(inner, q, patience)
		if err != nil {
			if q.once && !IsRefusal(err) {
				return nil, backoff.Permanent(err)
			}
			err = retryable(err, tries)
			tries++
		}
		return resp, err
	}, backoff.WithBackOff(pauses))
	if err != nil {
		open.end(IsRefusal(err))
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case patience.isOver():
			return nil, context.DeadlineExceeded
		}
		return nil, err
	}
	c.answered()
	resp.Body = &patientBody{resp.Body, patience, open}
	return resp, nil
}

// patientBody is the body of an answer whose bytes make up for the time that
// they take.
type patientBody struct {
	io.ReadCloser
	patience *patience
	open     *wait
}

func (b *patientBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.patience.moved(n)
	if errors.Is(err, io.EOF) {
		b.open.end(true)
	} else if err != nil && b.patience.isOver() {
		err = context.DeadlineExceeded
	}
	return n, err
}

func (b *patientBody) Close() error {
	err := b.ReadCloser.Close()
	b.open.end(false)
	return err
}

// patientReader is the body of a request.
type patientReader struct {
	io.Reader
	patience *patience
}

func (r *patientReader) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.patience.moved(n)
	return n, err
}

// retryable marks an error as permanent if repeating the request does not help.
// A service that cannot be reached or does not answer is not waited for.
func retryable(err error, tries int) error {
	var r refusal
	var op *net.OpError
	again := tries < retries
	switch {
	case errors.As(err, &r) && r.Status == http.StatusTooManyRequests:
		if tries < laterRetries {
			return &backoff.RetryAfterError{Duration: min(max(r.after, firstPause), longestPause)}
		}
		again = false
	case errors.As(err, &r):
		again = again &&
			(r.Status == http.StatusBadGateway || r.Status == http.StatusServiceUnavailable || r.Status == http.StatusGatewayTimeout)
	case errors.As(err, &op) && op.Op == "dial", errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled), timedOut(err):
		again = false
	}
	if again {
		return err
	}
	return backoff.Permanent(err)
}

func timedOut(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout()
}

// once sends a request once.
func (c *Client) once(ctx context.Context, q request, patience *patience) (*http.Response, error) {
	var body io.Reader
	if q.body != nil {
		body = &patientReader{q.body(), patience}
	}
	req, err := http.NewRequestWithContext(ctx, q.method, c.base+"/"+protocol.Version+"/"+url.PathEscape(c.repo)+"/"+q.path, body)
	if err != nil {
		return nil, err
	}
	for k, v := range q.header {
		req.Header[k] = v
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if body != nil {
		req.ContentLength = q.length
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	return nil, refusalOf(resp)
}

// longestRefusal is how many bytes of a refusal are read, and longestTitle how
// many of its sentences are shown.
const (
	longestRefusal = 1 << 20
	longestTitle   = 500
)

func refusalOf(resp *http.Response) refusal {
	var r refusal
	text, _ := io.ReadAll(io.LimitReader(resp.Body, longestRefusal))
	switch {
	case resp.StatusCode < 400:
		r.Title = fmt.Sprintf("it answered %s, which leads elsewhere and is not followed: name the service's own address", resp.Status)
	case json.Unmarshal(text, &r.Problem) != nil || r.Title == "":
		r.Problem = protocol.Problem{Title: fmt.Sprintf("it answered %.80s, which is not an answer of a Gray Loft service", resp.Status)}
	}
	r.Title, r.Detail = fmt.Sprintf("%.*s", longestTitle, r.Title), fmt.Sprintf("%.*s", longestTitle, r.Detail)
	r.Status = resp.StatusCode
	if n, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && n >= 0 {
		r.after = time.Duration(min(n, 3600)) * time.Second
	}
	return r
}
