// Package remote is the client side of the protocol: it asks the service,
// downloads blobs into this machine's store, uploads what was made, and records
// runs. It believes nothing that the service says before checking it, and
// nothing that the service does can fail or stall a run: a problem is reported, the
// run goes on without the service until that answers again, and what was to be
// sent waits in the store's spool, at worst for a later run.
package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
)

// dialLimit is how long a connection may take; see [patience] for everything
// after that.
const dialLimit = 3 * time.Second

// Store is this machine's cache, as far as the client needs it.
type Store interface {
	// Keep stores the contents of r, if they match the digest.
	Keep(d digest.Digest, r io.Reader) error
	// KeepTexts stores blobs whose contents match their digests.
	KeepTexts(list []pack.Blob) error
	// KeepFrame is KeepTexts for the blobs of one frame.
	KeepFrame(frame []byte, list []pack.Blob) error
	// Read returns a small blob, verified. ReaderAt opens any blob, without
	// verifying it.
	Read(d digest.Digest) ([]byte, error)
	ReaderAt(d digest.Digest) (protocol.OpenBlob, error)
	Size(d digest.Digest) (int64, error)
	// Spool stores what is to be sent later, under a name.
	Spool(name string, data []byte) error
	// Partial opens a large blob that arrives in pieces.
	Partial(d digest.Digest, size, piece int64) (protocol.Pieces, error)
	Spooled() ([]string, error)
	ReadSpooled(name string) ([]byte, error)
	Unspool(name string) error
	// SilentSince is when a service was found not to answer; zero if it was not.
	SilentSince(service string) time.Time
	KeepSilence(service string, silent bool)
	// Rights returns what a service last said about a token, and whether that still holds.
	Rights(service, repo, token string) (self protocol.Self, ok bool)
	KeepRights(service, repo, token string, self *protocol.Self)
	// SetAside takes something out of the spool for good, and returns where it is.
	SetAside(name string) (file string, err error)
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
	state  state
	outage outage

	ahead, behind *patience // for requests that a run waits for, and for the others
	backlog       backlog
}

// state is what a client knows of its service.
type state struct {
	down  bool
	self  protocol.Self
	known bool // whether the service has answered that
	full  bool // the service has no room
	near  bool // on this machine, with nothing slow in between
}

// New returns a client of the service at an address.
func New(address, repo, token string, st Store) *Client {
	return &Client{
		Warn: func(string) {}, base: strings.TrimSuffix(address, "/"), repo: repo, token: token, store: st,
		http: &http.Client{Transport: &http.Transport{
			Proxy:                  http.ProxyFromEnvironment,
			DialContext:            (&net.Dialer{Timeout: dialLimit}).DialContext,
			TLSHandshakeTimeout:    dialLimit,
			MaxIdleConnsPerHost:    16,
			MaxResponseHeaderBytes: 64 << 10,
			DisableCompression:     true,
		}, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse // the token belongs to this address alone
		}},
		ahead: newPatience(false), behind: newPatience(true),
	}
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
	if _, many := out.(*protocol.LookupAnswer); many {
		header.Set("Accept", protocol.TypeCompact+", application/json;q=0.5")
	}
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body, length = func() io.Reader { return bytes.NewReader(b) }, int64(len(b))
		header.Set("Content-Type", "application/json")
	}
	resp, err := c.request(ctx, request{method: method, path: path, header: header, body: body, length: length})
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	switch kind, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type")); kind {
	case protocol.TypeCompact:
		return decodeCompact(resp.Body, out)
	case "text/html":
		return errPage
	}
	return decodeAnswer(resp.Body, out)
}

// errPage is for the answer of another program than a service, such as a page to log in on a network.
var errPage = errors.New("it answers with a page: is this the address of a Gray Loft service?")

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
	if c.state.near {
		return "identity"
	}
	return "zstd"
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
			ch <- part{soundEntries(answer.Entries), err}
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
