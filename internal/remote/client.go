// Package remote is the client side of the protocol: it asks the service,
// downloads blobs into this machine's store, uploads what was made, and records
// runs. It believes nothing that the service says before checking it, and
// nothing that the service does can fail or stall a run: the first problem is
// reported once, the rest of the run goes on without the service, and what was
// to be sent waits in the store's spool for a later run.
package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Timeouts. A service that is slower is treated as unreachable.
const (
	dialLimit   = 3 * time.Second
	answerLimit = 15 * time.Second
	stallLimit  = 15 * time.Second // without a single byte
)

// Store is this machine's cache, as far as the client needs it.
type Store interface {
	// Keep stores the contents of r, if they match the digest.
	Keep(d digest.Digest, r io.Reader) error
	// Read returns a small blob, verified; WriteTo writes any blob, verifying
	// it.
	Read(d digest.Digest) ([]byte, error)
	WriteTo(d digest.Digest, w io.Writer) error
	Size(d digest.Digest) (int64, error)
	// Spool stores what is to be sent later, under a name.
	Spool(name string, data []byte) error
	// Partial opens a large blob that arrives in pieces.
	Partial(d digest.Digest, size, piece int64) (protocol.Pieces, error)
	Spooled() ([]string, error)
	ReadSpooled(name string) ([]byte, error)
	Unspool(name string) error
}

// Client talks to one service about one repository. It is safe for concurrent
// use.
type Client struct {
	Warn func(sentence string)

	base  string
	repo  string
	token string
	http  *http.Client
	store Store

	mu       sync.Mutex
	down     bool
	writesTo string         // the shelf that the token writes to
	known    bool           // whether the service has answered that
	full     bool           // the service has no room
	near     bool           // on this machine, with nothing slow in between
	pushed   sync.WaitGroup // what earlier runs left in the spool
}

// New returns a client of the service at an address.
func New(address, repo, token string, st Store) *Client {
	return &Client{
		Warn: func(string) {}, base: strings.TrimSuffix(address, "/"), repo: repo, token: token, store: st,
		http: &http.Client{Transport: &http.Transport{
			Proxy:                 http.ProxyFromEnvironment,
			DialContext:           (&net.Dialer{Timeout: dialLimit}).DialContext,
			TLSHandshakeTimeout:   dialLimit,
			ResponseHeaderTimeout: answerLimit,
			MaxIdleConnsPerHost:   16,
			DisableCompression:    true,
		}},
	}
}

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

// trouble marks the service as unusable for the rest of the run, and warns
// once.
func (c *Client) trouble(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	c.mu.Lock()
	first := !c.down
	c.down = true
	c.mu.Unlock()
	if first {
		c.Warn(fmt.Sprintf("the service at %s %s; the run goes on with this machine's cache alone", c.base, Explain(err)))
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
	var ne net.Error
	var op *net.OpError
	switch {
	case errors.As(err, &r) && r.Status == http.StatusUnauthorized:
		return "does not know this token (" + r.Error() + ")"
	case errors.As(err, &r):
		return "refuses: " + r.Error()
	case errors.As(err, &op) && op.Op == "dial":
		return "cannot be reached (" + op.Err.Error() + ")"
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &ne) && ne.Timeout():
		return "does not answer in time"
	}
	return "fails (" + strings.TrimPrefix(err.Error(), "Post ") + ")"
}

// Down tells whether the service has been given up for this run.
func (c *Client) Down() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.down
}

// request sends a request, and repeats it if that may help: the service asked
// to come back later, the connection was cut, or a gateway failed. Body, if not
// nil, returns the body for each attempt. The caller must close the body of the
// answer; a status of 400 and above is returned as a refusal.
func (c *Client) request(ctx context.Context, method, path string, header http.Header, body func() io.Reader, length int64) (*http.Response, error) {
	for try := 0; ; try++ {
		if c.Down() {
			return nil, protocol.ErrDown
		}
		resp, err := c.once(ctx, method, path, header, body, length)
		if err == nil {
			return resp, nil
		}
		wait, again := pause(err, try)
		if !again || ctx.Err() != nil {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
	}
}

const (
	retries      = 2                      // after a cut connection or a gateway error
	firstPause   = 100 * time.Millisecond // before the first retry
	laterRetries = 8                      // if the service asks to come back later
	longestPause = 10 * time.Second
)

// pause says whether to repeat a request, and after how long. A service that
// cannot be reached or does not answer is not waited for.
func pause(err error, try int) (time.Duration, bool) {
	var r refusal
	var op *net.OpError
	switch {
	case errors.As(err, &r) && r.Status == http.StatusTooManyRequests:
		return min(max(r.after, firstPause), longestPause), try < laterRetries
	case errors.As(err, &r):
		return firstPause << (2 * try), try < retries && (r.Status == http.StatusBadGateway || r.Status == http.StatusServiceUnavailable || r.Status == http.StatusGatewayTimeout)
	case errors.As(err, &op) && op.Op == "dial", errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled), timedOut(err):
		return 0, false
	}
	return firstPause << (2 * try), try < retries
}

func timedOut(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout()
}

func (c *Client) once(ctx context.Context, method, path string, header http.Header, from func() io.Reader, length int64) (*http.Response, error) {
	ctx, watch := stalling(ctx)
	var body io.Reader
	if from != nil {
		body = &watched{from(), watch}
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/"+protocol.Version+"/"+url.PathEscape(c.repo)+"/"+path, body)
	if err != nil {
		watch.stop()
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if body != nil {
		req.ContentLength = length
	}
	resp, err := c.http.Do(req)
	if err != nil {
		watch.stop()
		if watch.fired() {
			err = context.DeadlineExceeded
		}
		return nil, err
	}
	resp.Body = &watchedBody{watched{resp.Body, watch}, resp.Body}
	if resp.StatusCode < 400 {
		return resp, nil
	}
	defer resp.Body.Close()
	var r refusal
	text, _ := io.ReadAll(io.LimitReader(resp.Body, protocol.MaxBody))
	if json.Unmarshal(text, &r.Problem) != nil || r.Title == "" {
		r.Title = fmt.Sprintf("it answered %s, which is not an answer of a Gray Loft service", resp.Status)
	}
	r.Status = resp.StatusCode
	if n, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil {
		r.after = time.Duration(n) * time.Second
	}
	return nil, r
}

// call sends and receives JSON. Any problem gives the service up.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	err := c.try(ctx, method, path, in, out)
	if err != nil && !errors.Is(err, protocol.ErrDown) {
		return c.trouble(err)
	}
	return err
}

func (c *Client) try(ctx context.Context, method, path string, in, out any) error {
	var body func() io.Reader
	var length int64
	header := http.Header{"Accept": {"application/json"}}
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body, length = func() io.Reader { return bytes.NewReader(b) }, int64(len(b))
		header.Set("Content-Type", "application/json")
	}
	resp, err := c.request(ctx, method, path, header, body, length)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		_, err := io.Copy(io.Discard, resp.Body)
		return err
	}
	return json.NewDecoder(resp.Body).Decode(out)
}

// nearLimit is the time within which a service on this machine answers the
// first request, connection included. Transfers from such a service are not
// compressed.
const nearLimit = 15 * time.Millisecond

func loopback(base string) bool {
	u, err := url.Parse(base)
	if err != nil {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// encodings lists the encodings that answers may have.
func (c *Client) encodings() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.near {
		return "identity"
	}
	return "zstd"
}

// expirySoon is how long before its expiry a token is warned about.
const expirySoon = 7 * 24 * time.Hour

// Self returns what the token may do, and sends what earlier runs left in the
// spool.
func (c *Client) Self(ctx context.Context) (protocol.Self, error) {
	var self protocol.Self
	began := time.Now()
	err := c.call(ctx, http.MethodGet, "self", nil, &self)
	if err == nil {
		c.mu.Lock()
		c.writesTo, c.known = self.WritesTo, true
		c.near = loopback(c.base) && time.Since(began) < nearLimit
		c.mu.Unlock()
		if self.Expires != nil && time.Until(*self.Expires) < expirySoon {
			c.Warn(fmt.Sprintf("the token %q expires on %s: ask for a new one before that", self.Name, self.Expires.Local().Format("2 January 2006, 15:04")))
		}
		c.pushed.Go(func() { c.sendSpooled(ctx) })
	}
	return self, err
}

// Lookup asks for candidates; large plans go in several parallel requests.
func (c *Client) Lookup(ctx context.Context, tasks []protocol.Query) ([]protocol.Entry, error) {
	type part struct {
		entries []protocol.Entry
		err     error
	}
	var parts []chan part
	for len(tasks) > 0 {
		n := min(len(tasks), protocol.MaxLookup)
		batch := tasks[:n]
		tasks = tasks[n:]
		ch := make(chan part, 1)
		parts = append(parts, ch)
		go func() {
			var answer protocol.LookupAnswer
			err := c.call(ctx, http.MethodPost, "entries/lookup", protocol.Lookup{Tasks: batch}, &answer)
			ch <- part{answer.Entries, err}
		}()
	}
	var out []protocol.Entry
	var failed error
	for _, ch := range parts {
		p := <-ch
		out = append(out, p.entries...)
		if p.err != nil {
			failed = p.err
		}
	}
	return out, failed
}

// watch cancels a request on which no byte has passed for too long.
type watch struct {
	timer  *time.Timer
	cancel context.CancelFunc
	mu     sync.Mutex
	late   bool
}

func stalling(parent context.Context) (context.Context, *watch) {
	ctx, cancel := context.WithCancel(parent)
	w := &watch{cancel: cancel}
	w.timer = time.AfterFunc(stallLimit, func() {
		w.mu.Lock()
		w.late = true
		w.mu.Unlock()
		cancel()
	})
	return ctx, w
}

func (w *watch) fired() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.late
}

func (w *watch) stop() {
	w.timer.Stop()
	w.cancel()
}

type watched struct {
	io.Reader
	w *watch
}

func (r *watched) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if n > 0 {
		r.w.timer.Reset(stallLimit)
	}
	if err != nil && r.w.fired() {
		err = context.DeadlineExceeded
	}
	return n, err
}

type watchedBody struct {
	watched
	body io.Closer
}

func (b *watchedBody) Close() error {
	err := b.body.Close()
	b.w.stop()
	return err
}
