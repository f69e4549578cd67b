package remote

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

const (
	packBytes   = 8 << 20 // of blobs in one pack
	packMembers = 2000
	connections = 4 // for large blobs
)

// packs parts blobs into those that travel together and those that travel
// alone.
func packs(blobs []protocol.Blob) (together [][]protocol.Blob, alone []protocol.Blob) {
	var now []protocol.Blob
	bytes := int64(0)
	for _, b := range blobs {
		if b.Size > protocol.PackedBlob {
			alone = append(alone, b)
			continue
		}
		if len(now) == packMembers || bytes+b.Size > packBytes {
			together, now, bytes = append(together, now), nil, 0
		}
		now = append(now, b)
		bytes += max(b.Size, 0)
	}
	if len(now) > 0 {
		together = append(together, now)
	}
	return together, alone
}

// Fetch brings blobs into the store. Those that arrived stay, whatever becomes
// of the others.
func (c *Client) Fetch(ctx context.Context, blobs []protocol.Blob) (int64, error) {
	var moved atomic.Int64
	together, alone := packs(blobs)
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(connections)
	for _, p := range together {
		g.Go(func() error { return c.fetchPack(ctx, p, &moved) })
	}
	for _, b := range alone {
		g.Go(func() error { return c.fetchBlob(ctx, b, &moved) })
	}
	err := g.Wait()
	return moved.Load(), err
}

func (c *Client) fetchPack(ctx context.Context, blobs []protocol.Blob, moved *atomic.Int64) error {
	want := map[digest.Digest]bool{}
	ask := protocol.Digests{}
	for _, b := range blobs {
		if !want[b.Digest] {
			want[b.Digest] = true
			ask.Digests = append(ask.Digests, b.Digest)
		}
	}
	body, err := json.Marshal(ask)
	if err != nil {
		return err
	}
	resp, err := c.request(ctx, http.MethodPost, "packs/fetch",
		http.Header{"Content-Type": {"application/json"}, "Accept-Encoding": {"zstd"}}, bytes.NewReader(body), int64(len(body)))
	if err != nil {
		return c.failed(ctx, err)
	}
	defer resp.Body.Close()
	raw := &countingReader{r: resp.Body, n: moved}
	in := io.Reader(raw)
	if resp.Header.Get("Content-Encoding") == "zstd" {
		dec, err := zstd.NewReader(raw, zstd.WithDecoderMaxMemory(128<<20))
		if err != nil {
			return err
		}
		defer dec.Close()
		in = dec
	}
	tr := tar.NewReader(io.LimitReader(in, protocol.MaxPack))
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return c.failed(ctx, fmt.Errorf("a pack was cut off: %w", err))
		}
		d, err := digest.Parse(h.Name)
		if err != nil || !want[d] {
			return c.failed(ctx, fmt.Errorf("a pack holds %.80q, which was not asked for", h.Name))
		}
		if err := c.keep(d, tr, h.Size); err != nil {
			return c.failed(ctx, err)
		}
		delete(want, d)
	}
	for d := range want {
		return fmt.Errorf("%w: blob %s", protocol.ErrGone, d.Short())
	}
	return nil
}

type countingReader struct {
	r io.Reader
	n *atomic.Int64
}

func (r *countingReader) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.n.Add(int64(n))
	return n, err
}

// keep files one blob, if it is what its digest says.
func (c *Client) keep(d digest.Digest, r io.Reader, size int64) error {
	return c.store.Keep(d, io.LimitReader(r, size))
}

func (c *Client) fetchBlob(ctx context.Context, b protocol.Blob, moved *atomic.Int64) error {
	resp, err := c.request(ctx, http.MethodGet, "blobs/"+b.Digest.String(), nil, nil, 0)
	if err != nil {
		return c.failed(ctx, err)
	}
	defer resp.Body.Close()
	if err := c.keep(b.Digest, &countingReader{resp.Body, moved}, b.Size+1); err != nil {
		return c.failed(ctx, err)
	}
	return nil
}

// failed sorts an error: a blob that is gone is one thing, a service in
// trouble another.
func (c *Client) failed(ctx context.Context, err error) error {
	var r refusal
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, protocol.ErrDown):
		return err
	case errors.As(err, &r) && r.Status == http.StatusNotFound:
		return fmt.Errorf("%w: %w", protocol.ErrGone, err)
	}
	return c.trouble(err)
}

// Share files an entry with all that it names. Until that is done, the entry
// waits in the spool.
func (c *Client) Share(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error) {
	c.mu.Lock()
	e.Shelf = c.shelf
	c.mu.Unlock()
	if strings.HasSuffix(e.Shelf, "/*") {
		e.Shelf = strings.TrimSuffix(e.Shelf, "*") + "default"
	}
	for _, d := range append([]digest.Digest{e.Listing, e.Log, e.Ingredients}, e.Refs...) {
		if !d.IsZero() && !slices.ContainsFunc(blobs, func(b protocol.Blob) bool { return b.Digest == d }) {
			size, err := c.store.Size(d)
			if err != nil {
				return 0, protocol.Filed{}, err
			}
			blobs = append(blobs, protocol.Blob{Digest: d, Size: size})
		}
	}
	// It waits in the spool while it is sent, so that neither a run that ends
	// first nor a client that is killed loses it.
	name := c.spool("entry", e.Key.String(), spooled{Entry: &e, Blobs: blobs})
	moved, filed, err := c.send(ctx, e, blobs)
	if !later(ctx, err) {
		_, _ = c.store.Unspool(name)
	}
	return moved, filed, err
}

// later tells whether what failed is worth sending again in a later run.
func later(ctx context.Context, err error) bool {
	return err != nil && (errors.Is(err, protocol.ErrDown) || errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil)
}

func (c *Client) send(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error) {
	var moved int64
	var filed protocol.Filed
	ask := protocol.Digests{}
	for _, b := range blobs {
		ask.Digests = append(ask.Digests, b.Digest)
	}
	lack := protocol.Digests{}
	if err := c.call(ctx, http.MethodPost, "blobs/missing", ask, &lack); err != nil {
		return 0, filed, err
	}
	for try := 0; ; try++ {
		n, err := c.upload(ctx, blobs, lack.Digests)
		moved += n
		if err != nil {
			return moved, filed, err
		}
		err = c.try(ctx, http.MethodPut, "entries/"+e.Key.String()+"?shelf="+url.QueryEscape(e.Shelf), e, &filed)
		var r refusal
		switch {
		case err == nil:
			return moved, filed, nil
		case errors.As(err, &r) && r.Status == http.StatusConflict && len(r.Missing) > 0 && try < 2:
			lack.Digests = r.Missing
		case errors.As(err, &r) && r.Status < 500:
			return moved, filed, fmt.Errorf("the service refuses it: %w", r)
		default:
			return moved, filed, c.failed(ctx, err)
		}
	}
}

func (c *Client) upload(ctx context.Context, blobs []protocol.Blob, lack []digest.Digest) (int64, error) {
	missing := map[digest.Digest]bool{}
	for _, d := range lack {
		missing[d] = true
	}
	blobs = slices.DeleteFunc(slices.Clone(blobs), func(b protocol.Blob) bool { return !missing[b.Digest] })
	together, alone := packs(blobs)
	var moved atomic.Int64
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(connections)
	for _, p := range together {
		g.Go(func() error { return c.sendPack(ctx, p, &moved) })
	}
	for _, b := range alone {
		g.Go(func() error { return c.sendBlob(ctx, b, &moved) })
	}
	err := g.Wait()
	return moved.Load(), err
}

func (c *Client) sendBlob(ctx context.Context, b protocol.Blob, moved *atomic.Int64) error {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(c.store.WriteTo(b.Digest, pw)) }()
	defer pr.Close()
	resp, err := c.request(ctx, http.MethodPut, "blobs/"+b.Digest.String(),
		http.Header{"Content-Type": {protocol.TypeBlob}}, &countingReader{pr, moved}, b.Size)
	if err != nil {
		return c.failed(ctx, err)
	}
	return resp.Body.Close()
}

func (c *Client) sendPack(ctx context.Context, blobs []protocol.Blob, moved *atomic.Int64) error {
	var buf bytes.Buffer
	enc, err := zstd.NewWriter(&buf, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	tw := tar.NewWriter(enc)
	for _, b := range blobs {
		text, err := c.store.Read(b.Digest)
		if err != nil {
			return err
		}
		if err := tw.WriteHeader(&tar.Header{Name: b.Digest.String(), Size: int64(len(text)), Mode: 0o444, Format: tar.FormatUSTAR}); err != nil {
			return err
		}
		if _, err := tw.Write(text); err != nil {
			return err
		}
	}
	if err := errors.Join(tw.Close(), enc.Close()); err != nil {
		return err
	}
	length := int64(buf.Len())
	resp, err := c.request(ctx, http.MethodPost, "packs",
		http.Header{"Content-Type": {protocol.TypePack}, "Content-Encoding": {"zstd"}, "Accept": {"application/json"}}, &buf, length)
	if err != nil {
		return c.failed(ctx, err)
	}
	defer resp.Body.Close()
	moved.Add(length)
	var answer protocol.PackAnswer
	if err := json.NewDecoder(resp.Body).Decode(&answer); err != nil {
		return c.failed(ctx, err)
	}
	for _, res := range answer.Results {
		if !res.OK {
			return fmt.Errorf("the service did not take blob %s: %s", res.Digest.Short(), res.Error)
		}
	}
	return nil
}

// spooled is what waits to be sent: an entry, or the record of a run.
type spooled struct {
	Service string           `json:"service"`
	Repo    string           `json:"repo"`
	Entry   *protocol.Entry  `json:"entry,omitempty"`
	Blobs   []protocol.Blob  `json:"blobs,omitempty"`
	Run     *protocol.Run    `json:"run,omitempty"`
	Events  []protocol.Event `json:"events,omitempty"`
	Logs    []digest.Digest  `json:"logs,omitempty"`
}

func (c *Client) spool(kind, name string, s spooled) string {
	name = kind + "-" + name
	s.Service, s.Repo = c.base, c.repo
	data, err := json.Marshal(s)
	if err == nil {
		err = c.store.Spool(name, data)
	}
	if err != nil {
		c.Warn("what is to be sent could not be kept: " + err.Error())
	}
	return name
}

// sendSpooled sends what earlier runs could not, for this service and
// repository. What fails again goes back.
func (c *Client) sendSpooled(ctx context.Context) {
	names, err := c.store.Spooled()
	if err != nil {
		return
	}
	for _, name := range names {
		data, err := c.store.Unspool(name)
		if err != nil {
			continue // another client has it
		}
		var s spooled
		if json.Unmarshal(data, &s) != nil {
			continue // damaged: it cannot be sent, ever
		}
		if s.Service == c.base && s.Repo == c.repo {
			err = c.sendOne(ctx, s)
		} else {
			err = protocol.ErrDown
		}
		var r refusal
		if err != nil && !errors.As(err, &r) && !errors.Is(err, os.ErrNotExist) {
			_ = c.store.Spool(name, data)
		}
		if c.Down() || ctx.Err() != nil {
			return
		}
	}
}

func (c *Client) sendOne(ctx context.Context, s spooled) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	if s.Entry != nil {
		_, _, err := c.send(ctx, *s.Entry, s.Blobs)
		return err
	}
	if err := c.sendLogs(ctx, s.Logs); err != nil {
		return err
	}
	if err := c.call(ctx, http.MethodPost, "runs", s.Run, nil); err != nil {
		return err
	}
	return c.postEvents(ctx, s.Run.ID, s.Events)
}
