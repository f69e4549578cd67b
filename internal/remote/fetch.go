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
	"slices"
	"sync/atomic"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
)

// Fetch downloads blobs into the store. Those that arrived stay, even if others
// fail.
func (c *Client) Fetch(ctx context.Context, blobs []protocol.Blob) (int64, error) {
	return c.FetchAnd(ctx, blobs, nil)
}

// FetchAnd is [Client.Fetch], and passes on the contents of blobs that travel in packs,
// verified: several goroutines do so, and the contents are valid during the call.
func (c *Client) FetchAnd(ctx context.Context, blobs []protocol.Blob, arrived func(d digest.Digest, text []byte)) (int64, error) {
	return carry(ctx, blobs, fetchPortions, func(ctx context.Context, blobs []protocol.Blob, moved *atomic.Int64) error {
		return c.fetchPack(ctx, &fetching{of: blobs, moved: moved, arrived: arrived})
	}, c.fetchBlob)
}

// fetchPack downloads small blobs in a pack. Members that arrived before a cut
// were verified and stay, so only the rest is requested again.
func (c *Client) fetchPack(ctx context.Context, p *fetching) error {
	p.want = make(map[digest.Digest]int64, len(p.of))
	for _, b := range p.of {
		p.want[b.Digest] = b.Size
	}
	if len(p.want) < len(p.of) {
		p.of = once(p.of)
	}
	for try := 0; ; try++ {
		before := len(p.want)
		whole, err := c.fetchMembers(ctx, p)
		if len(p.want) < before {
			try = 0
		}
		switch {
		case whole && len(p.want) > 0:
			for d := range p.want {
				return fmt.Errorf("%w: blob %s", protocol.ErrGone, d.Short())
			}
		case whole:
			return nil
		}
		if !cut(err) || try == retries || ctx.Err() != nil {
			return c.failed(ctx, err)
		}
	}
}

// once returns the blobs of a list, each once.
func once(list []protocol.Blob) []protocol.Blob {
	seen := make(map[digest.Digest]bool, len(list))
	return slices.DeleteFunc(slices.Clone(list), func(b protocol.Blob) bool {
		twice := seen[b.Digest]
		seen[b.Digest] = true
		return twice
	})
}

// errCut is wrapped by errors about an answer that was cut off.
var errCut = errors.New("the connection was cut")

func cut(err error) bool {
	return errors.Is(err, errCut) && !errors.Is(err, context.DeadlineExceeded)
}

// headerBytes is how many bytes a member of a pack takes at most beside its
// contents.
const headerBytes = 1024

// fetching is a pack that is being fetched.
type fetching struct {
	of      []protocol.Blob
	want    map[digest.Digest]int64 // blobs that have not arrived, with their sizes; -1: not known
	moved   *atomic.Int64
	arrived func(d digest.Digest, text []byte) // nil: nobody asks
	most    int64                              // bytes of what was not requested that may still come along
}

// keepWanted stores those of the blobs that arrived which are wanted: as their frame, if they are
// what it contains.
func (c *Client) keepWanted(p *fetching, list []pack.Blob, frame []byte) error {
	came := len(list)
	kept, err := p.take(list)
	switch {
	case len(kept) == 0:
	case len(kept) == came && frame != nil:
		if err := c.store.KeepFrame(frame, kept); err != nil {
			return ofDisk(err)
		}
	default:
		if err := c.store.KeepTexts(kept); err != nil {
			return ofDisk(err)
		}
	}
	if p.arrived != nil {
		for _, b := range kept {
			p.arrived(b.Digest, b.Text)
		}
	}
	return err
}

// take returns the blobs that are wanted, which then no longer are, up to one that is refused.
func (p *fetching) take(list []pack.Blob) (kept []pack.Blob, err error) {
	kept = list[:0]
	for _, b := range list {
		size, ok := p.want[b.Digest]
		switch {
		case !ok: // it shares a frame with others
			if p.most -= pack.Plain(int64(len(b.Text))); p.most < 0 {
				return kept, fmt.Errorf("a pack contains much that was not requested, such as blob %s", b.Digest.Short())
			}
		case size >= 0 && int64(len(b.Text)) != size:
			return kept, fmt.Errorf("a pack contains blob %s with %d bytes instead of %d", b.Digest.Short(), len(b.Text), size)
		default:
			delete(p.want, b.Digest)
			kept = append(kept, b)
		}
	}
	return kept, nil
}

// fetchMembers requests the wanted blobs in one pack, and removes from want those
// that arrived. Whole tells that the pack was complete.
func (c *Client) fetchMembers(ctx context.Context, p *fetching) (whole bool, err error) {
	ask := protocol.Digests{Digests: make([]digest.Digest, 0, len(p.want))}
	bytesWanted := int64(64 << 10)
	all := len(p.want) == len(p.of) // nothing has arrived
	for _, b := range p.of {
		size, ok := b.Size, all
		if !all {
			size, ok = p.want[b.Digest]
		}
		if !ok {
			continue
		}
		ask.Digests = append(ask.Digests, b.Digest)
		if bytesWanted += size + headerBytes; size < 0 {
			bytesWanted += protocol.MaxPart
		}
	}
	p.most = bytesWanted // of each frame, at least half was requested
	bytesWanted *= 2
	body, err := json.Marshal(ask)
	if err != nil {
		return false, err
	}
	encodings := "zstd" // however near the service is: it has small blobs compressed
	if len(p.of) == 1 && p.of[0].Size < 0 {
		encodings = c.encodings() // a large listing would be compressed now, before it is read
	}
	resp, err := c.request(ctx, request{
		method: http.MethodPost, path: "packs/fetch",
		header: http.Header{"Content-Type": {"application/json"}, "Accept": {protocol.TypeFrames}, "Accept-Encoding": {encodings}},
		body:   func() io.Reader { return bytes.NewReader(body) }, length: int64(len(body)),
	})
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	raw := &faultReader{r: &countingReader{r: resp.Body, n: p.moved}}
	members := plainMembers(raw, min(bytesWanted, protocol.MaxPack))
	if resp.Header.Get("Content-Encoding") == "zstd" {
		members = frameMembers(io.LimitReader(raw, bytesWanted), len(p.of) > 1)
	}
	for {
		list, frame, err := members()
		if err := c.keepWanted(p, list, frame); err != nil {
			return false, err
		}
		switch {
		case errors.Is(err, io.EOF):
			return true, nil
		case raw.failed, errors.Is(err, io.ErrUnexpectedEOF):
			return false, fmt.Errorf("%w: a pack was cut off: %w", errCut, err)
		case err != nil:
			return false, fmt.Errorf("a member of a pack is refused: %w", err)
		}
	}
}

// members returns the next blobs of a pack, verified, and the frame whose contents they are, if
// that can be stored; all of it until the next call. They were there before the error, if there is
// one; after the last ones it is [io.EOF].
type members func() (list []pack.Blob, frame []byte, err error)

// frameMembers are those of one frame after the other. What is requested alone, such as a listing,
// is read more often than outputs, so it is not kept compressed.
func frameMembers(r io.Reader, keepFrames bool) members {
	frames := pack.NewFrames(r)
	var room []byte
	var list []pack.Blob
	return func() ([]pack.Blob, []byte, error) {
		list = list[:0]
		for {
			d, text, _, err := frames.Next(&room, protocol.MaxPart)
			if err != nil {
				return list, nil, err
			}
			if list = append(list, pack.Blob{Digest: d, Text: text}); frames.More() {
				continue
			}
			if frame, ok := frames.Frame(); ok && keepFrames {
				return list, frame, nil
			}
			return list, nil, nil
		}
	}
}

// plainMembers are those of a pack that is not compressed, which has at most so many bytes.
func plainMembers(r io.Reader, most int64) members {
	in := &pack.Reader{From: tar.NewReader(io.LimitReader(r, most)), Largest: protocol.MaxPart, Left: most}
	var room bytes.Buffer
	return func() ([]pack.Blob, []byte, error) {
		d, size, err := in.Next()
		if err != nil {
			return nil, nil, err
		}
		room.Reset()
		room.Grow(int(size) + bytes.MinRead) // at most [protocol.MaxPart]: it is read without growing
		if _, err := room.ReadFrom(in); err != nil {
			return nil, nil, err
		}
		if digest.Of(room.Bytes()) != d {
			return nil, nil, fmt.Errorf("member %s: %w", d.Short(), pack.ErrDamaged)
		}
		return []pack.Blob{{Digest: d, Text: room.Bytes()}}, nil, nil
	}
}

// faultReader notes that reading failed, as opposed to processing.
type faultReader struct {
	r      io.Reader
	failed bool
}

func (f *faultReader) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	f.failed = f.failed || err != nil && !errors.Is(err, io.EOF)
	return n, err
}

// decoded decompresses an answer.
func decoded(resp *http.Response, raw io.Reader) (in io.Reader, done func(), err error) {
	if resp.Header.Get("Content-Encoding") != "zstd" {
		return raw, func() {}, nil
	}
	dec, err := zstd.NewReader(raw, zstd.WithDecoderMaxMemory(16<<20), zstd.WithDecoderMaxWindow(16<<20), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, nil, err
	}
	return dec, dec.Close, nil
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

// keep stores one blob, if it matches the digest. Errors wrap [errCut] if the
// answer was cut off.
func (c *Client) keep(d digest.Digest, r io.Reader, size int64) error {
	from := &faultReader{r: r}
	err := c.store.Keep(d, io.LimitReader(from, size))
	if err != nil && from.failed {
		return fmt.Errorf("%w: %w", errCut, err)
	}
	return ofDisk(err)
}

// fetchBlob downloads a blob that travels alone. A large one arrives in pieces,
// over several connections; the pieces survive a cut and the end of this
// process.
func (c *Client) fetchBlob(ctx context.Context, b protocol.Blob, moved *atomic.Int64) error {
	if b.Size > protocol.MaxBlob {
		return c.failed(ctx, fmt.Errorf("a blob of %d bytes is larger than any that a service stores", b.Size))
	}
	p, err := c.store.Partial(b.Digest, b.Size, protocol.PieceBytes)
	if errors.Is(err, protocol.ErrBusy) {
		return c.fetchAlone(ctx, b, moved) // another process may never finish it
	}
	if err != nil {
		return ofDisk(err)
	}
	defer p.Close()
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(connections)
	for _, i := range p.Missing() {
		if inner.Err() != nil {
			break
		}
		g.Go(func() error {
			from := int64(i) * protocol.PieceBytes
			data, err := c.fetchPiece(inner, b.Digest, from, min(protocol.PieceBytes, b.Size-from), moved)
			if err != nil {
				return err
			}
			return ofDisk(p.Put(i, data))
		})
	}
	if err := g.Wait(); err != nil {
		return c.failed(ctx, err)
	}
	if err := p.Keep(); err != nil {
		return c.failed(ctx, ofDisk(err))
	}
	return nil
}

func (c *Client) fetchAlone(ctx context.Context, b protocol.Blob, moved *atomic.Int64) error {
	resp, err := c.request(ctx, request{method: http.MethodGet, path: "blobs/" + b.Digest.String()})
	if err != nil {
		return c.failed(ctx, err)
	}
	defer resp.Body.Close()
	if err := c.keep(b.Digest, &countingReader{resp.Body, moved}, b.Size+1); err != nil {
		return c.failed(ctx, err)
	}
	return nil
}

// fetchPiece downloads some bytes of a blob, and continues where it was after a
// cut.
func (c *Client) fetchPiece(ctx context.Context, d digest.Digest, from, length int64, moved *atomic.Int64) ([]byte, error) {
	data := make([]byte, length)
	have := int64(0)
	for try := 0; ; try++ {
		n, err := c.fetchBytes(ctx, d, from+have, data[have:], moved)
		if have += n; have == length {
			return data, nil
		}
		if n > 0 {
			try = 0
		}
		if !cut(err) || try == retries || ctx.Err() != nil {
			return nil, err
		}
	}
}

func (c *Client) fetchBytes(ctx context.Context, d digest.Digest, from int64, into []byte, moved *atomic.Int64) (int64, error) {
	resp, err := c.request(ctx, request{
		method: http.MethodGet, path: fmt.Sprintf("blobs/%s?from=%d&length=%d", d, from, len(into)),
		header: http.Header{"Accept-Encoding": {c.encodings()}},
	})
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	in, done, err := decoded(resp, &countingReader{r: resp.Body, n: moved})
	if err != nil {
		return 0, err
	}
	defer done()
	n, err := io.ReadFull(in, into)
	if err != nil {
		err = fmt.Errorf("%w: %w", errCut, err)
	}
	return int64(n), err
}
