package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"syscall"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

// refusal is a problem document that the service answered with.
type refusal struct {
	protocol.Problem
	after time.Duration // how long the service asks to wait; 0: not stated
}

func (r refusal) Error() string {
	if r.Detail != "" {
		return r.Detail
	}
	return r.Title
}

// trouble gives the service up, and warns. It is asked again later if the error may have gone
// by then.
func (c *Client) trouble(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	c.mu.Lock()
	first := !c.state.down
	c.state.down = true
	if first {
		c.outage.begin(err)
	}
	c.mu.Unlock()
	if first && isTimeout(err) {
		c.silent()
	}
	if first {
		c.Warn(fmt.Sprintf("the service at %s %s: only this machine's cache is used", c.base, Explain(err)))
	}
	return protocol.ErrDown
}

// IsRefusal tells whether the service answered, and refused.
func IsRefusal(err error) bool {
	var r refusal
	return errors.As(err, &r)
}

// Explain says what is wrong with the service, as the end of a sentence that
// begins with "the service".
func Explain(err error) string {
	var r refusal
	var op *net.OpError
	switch {
	case errors.As(err, &r) && r.Status == http.StatusUnauthorized:
		return "does not know this token (" + r.Error() + ")"
	case errors.As(err, &r):
		return "refuses: " + r.Error()
	case errors.As(err, &op) && op.Op == "dial":
		return "cannot be reached (" + op.Err.Error() + ")"
	case isTimeout(err):
		return "does not answer in time"
	case errors.Is(err, protocol.ErrDown):
		return "does not answer"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return "cut the connection"
	}
	if of, ok := errors.AsType[*url.Error](err); ok { // which names the address again
		err = of.Err
	}
	return "fails (" + err.Error() + ")"
}

func isTimeout(err error) bool {
	var ne net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &ne) && ne.Timeout()
}

// localError is an error of this machine's disk: the service is not to blame.
type localError struct{ err error }

func (e *localError) Error() string { return e.err.Error() }
func (e *localError) Unwrap() error { return e.err }

// ofDisk marks an error that this machine's store returned as local if it comes
// from the system; others say that the contents are wrong.
func ofDisk(err error) error {
	var errno syscall.Errno
	if errors.As(err, &errno) {
		return &localError{err}
	}
	return err
}

// failed classifies an error: a local one, a missing blob, or a service in
// trouble.
func (c *Client) failed(ctx context.Context, err error) error {
	var r refusal
	var local *localError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, protocol.ErrDown), errors.Is(err, protocol.ErrFull), errors.As(err, &local):
		return err
	case errors.As(err, &r) && r.Status == http.StatusInsufficientStorage:
		return c.noRoom(r)
	case errors.As(err, &r) && r.Status == http.StatusNotFound:
		return fmt.Errorf("%w: %w", protocol.ErrGone, err)
	}
	return c.trouble(err)
}

// Refused tells that asking again would not help.
func (r refusal) Refused() bool {
	return r.Status < 500 && r.Status != http.StatusTooManyRequests && r.Status != http.StatusRequestTimeout
}
