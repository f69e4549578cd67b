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

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Share uploads an entry with all the blobs that it names. Until that is done,
// the entry waits in the spool.
func (c *Client) Share(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error) {
	c.mu.Lock()
	e.Shelf = c.writesTo
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
	// It stays in the spool during the upload, so that neither the end of the
	// run nor a killed client loses it.
	name := c.spool("entry", e.Key.String(), spooled{Entry: &e, Blobs: blobs})
	if c.isFull() {
		return 0, protocol.Filed{}, protocol.ErrFull
	}
	moved, filed, err := c.send(ctx, e, blobs)
	if !later(ctx, err) {
		_ = c.store.Unspool(name) // otherwise it is sent again, which is harmless
	}
	return moved, filed, err
}

// later tells whether it is worth sending again in a later run.
func later(ctx context.Context, err error) bool {
	return err != nil && (errors.Is(err, protocol.ErrDown) || errors.Is(err, protocol.ErrFull) || errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil)
}

// noRoom notes that the service has no room: this run sends nothing more.
// Fetching still works.
func (c *Client) noRoom(r refusal) error {
	c.mu.Lock()
	first := !c.full
	c.full = true
	c.mu.Unlock()
	if first {
		c.Warn(fmt.Sprintf("the service at %s has no room for new results (%s); they are kept, and a later run sends them", c.base, r.Error()))
	}
	return protocol.ErrFull
}

func (c *Client) isFull() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.full
}

func (c *Client) send(ctx context.Context, e protocol.Entry, blobs []protocol.Blob) (int64, protocol.Filed, error) {
	var moved int64
	var filed protocol.Filed
	lack := protocol.Digests{}
	for part := range slices.Chunk(blobs, protocol.MaxDigests) {
		ask, answer := protocol.Digests{}, protocol.Digests{}
		for _, b := range part {
			ask.Digests = append(ask.Digests, b.Digest)
		}
		if err := c.call(ctx, http.MethodPost, "blobs/missing", ask, &answer); err != nil {
			return 0, filed, err
		}
		lack.Digests = append(lack.Digests, answer.Digests...)
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
	return carry(ctx, blobs, c.sendPack, c.sendBlob)
}

func (c *Client) sendBlob(ctx context.Context, b protocol.Blob, moved *atomic.Int64) error {
	var pipes []*io.PipeReader
	defer func() {
		for _, p := range pipes {
			p.Close()
		}
	}()
	resp, err := c.request(ctx, http.MethodPut, "blobs/"+b.Digest.String(), http.Header{"Content-Type": {protocol.TypeBlob}},
		func() io.Reader {
			pr, pw := io.Pipe()
			pipes = append(pipes, pr)
			go func() { pw.CloseWithError(c.store.WriteTo(b.Digest, pw)) }()
			return &countingReader{pr, moved}
		}, b.Size)
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
		http.Header{"Content-Type": {protocol.TypePack}, "Content-Encoding": {"zstd"}, "Accept": {"application/json"}},
		func() io.Reader { return bytes.NewReader(buf.Bytes()) }, length)
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

// spooled is an item that waits to be sent: an entry, or the record of a run.
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
		c.Warn("storing what is to be sent later: " + err.Error())
	}
	return name
}

// sendSpooled sends what earlier runs could not send, for this service and
// repository. Items that fail again stay.
func (c *Client) sendSpooled(ctx context.Context) {
	names, err := c.store.Spooled()
	if err != nil {
		return
	}
	for _, name := range names {
		data, err := c.store.ReadSpooled(name)
		if err != nil {
			continue // another client has sent it
		}
		var sp spooled
		if json.Unmarshal(data, &sp) != nil {
			_ = c.store.Unspool(name) // damaged: it can never be sent
			continue
		}
		if sp.Service != c.base || sp.Repo != c.repo {
			continue
		}
		// It stays in the spool until the service has it: a client that is
		// killed meanwhile loses nothing, and sending twice is harmless.
		err = c.sendOne(ctx, sp)
		var r refusal
		if err == nil || errors.As(err, &r) && !errors.Is(err, protocol.ErrFull) || errors.Is(err, os.ErrNotExist) {
			_ = c.store.Unspool(name)
		}
		if c.Down() || c.isFull() || ctx.Err() != nil {
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
