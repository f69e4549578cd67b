// Package remote is the client's side of the protocol: it asks the service,
// brings blobs into this machine's store, sends what was made, and records
// runs. Nothing that the service says is believed before it is checked, and
// nothing that the service does can fail or stall a run: the first trouble is
// said once, the rest of the run goes on without it, and what was to be sent
// waits in the store's spool for a later run.
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
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Limits on waiting. A service that is slower than these is treated as one
// that is not there.
const (
	dialLimit   = 3 * time.Second
	answerLimit = 15 * time.Second
	stallLimit  = 15 * time.Second // without a single byte
)

// Store is this machine's cache, as far as the client needs it.
type Store interface {
	// Keep files what r yields, if it is what the digest says.
	Keep(d digest.Digest, r io.Reader) error
	// Read returns a small blob, checked; WriteTo writes any, checking it.
	Read(d digest.Digest) ([]byte, error)
	WriteTo(d digest.Digest, w io.Writer) error
	Size(d digest.Digest) (int64, error)
	// Spool keeps what is to be sent later, under a name.
	Spool(name string, data []byte) error
	Spooled() ([]string, error)
	Unspool(name string) ([]byte, error)
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

	mu     sync.Mutex
	down   bool
	shelf  string         // that the token puts on
	known  bool           // whether the service has said so
	pushed sync.WaitGroup // what earlier runs left waiting
}

// New returns a client of the service at address.
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
}

func (r refusal) Error() string {
	if r.Detail != "" {
		return r.Detail
	}
	return r.Title
}

// trouble notes that the service cannot be used for the rest of the run, and
// says so once.
func (c *Client) trouble(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	c.mu.Lock()
	first := !c.down
	c.down = true
	c.mu.Unlock()
	if first {
		c.Warn(fmt.Sprintf("the service at %s %s; going on with this machine's cache alone", c.base, explain(err)))
	}
	return protocol.ErrDown
}

func explain(err error) string {
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

// request sends one request. The body of the answer has to be closed. A
// status of 400 and above comes back as a refusal.
func (c *Client) request(ctx context.Context, method, path string, header http.Header, body io.Reader, length int64) (*http.Response, error) {
	if c.Down() {
		return nil, protocol.ErrDown
	}
	ctx, watch := stalling(ctx)
	if body != nil {
		body = &watched{body, watch}
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
		r.Title = fmt.Sprintf("it answered %s, which is not how a Gray Loft service answers", resp.Status)
	}
	r.Status = resp.StatusCode
	return nil, r
}

// call sends and receives JSON. Trouble of any kind gives the service up.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	err := c.try(ctx, method, path, in, out)
	if err != nil && !errors.Is(err, protocol.ErrDown) {
		return c.trouble(err)
	}
	return err
}

func (c *Client) try(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	var length int64
	header := http.Header{"Accept": {"application/json"}}
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body, length = bytes.NewReader(b), int64(len(b))
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

// Self says what the token may do, and sends what earlier runs left waiting.
func (c *Client) Self(ctx context.Context) (protocol.Self, error) {
	var self protocol.Self
	err := c.call(ctx, http.MethodGet, "self", nil, &self)
	if err == nil {
		c.mu.Lock()
		c.shelf, c.known = self.PutsOn, true
		c.mu.Unlock()
		c.pushed.Go(func() { c.sendSpooled(ctx) })
	}
	return self, err
}

// Lookup asks for candidates; larger plans go in several requests at once.
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

// watch cancels a request over which no byte has passed for too long.
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
