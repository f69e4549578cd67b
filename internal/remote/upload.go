package remote

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
)

// upload sends those of the blobs that the service lacks, and returns the number
// of bytes transferred.
func (c *Client) upload(ctx context.Context, blobs []protocol.Blob, lack []digest.Digest) (int64, error) {
	missing := map[digest.Digest]bool{}
	for _, d := range lack {
		missing[d] = true
	}
	blobs = slices.DeleteFunc(slices.Clone(blobs), func(b protocol.Blob) bool { return !missing[b.Digest] })
	return carry(ctx, blobs, uploadPortions, c.sendPack, c.sendBlob)
}

// sendBlob uploads a blob that does not travel in a pack. A large one goes in
// pieces, each of them a blob of its own, and the service puts them together:
// pieces that have arrived stay, so the next run continues from there.
func (c *Client) sendBlob(ctx context.Context, b protocol.Blob, moved *atomic.Int64) error {
	from, err := c.store.ReaderAt(b.Digest)
	if err != nil {
		return ofDisk(err)
	}
	defer from.Close()
	if b.Size <= protocol.PieceBytes {
		return c.sendPiece(ctx, from, piece{b.Digest, 0, b.Size}, moved)
	}
	pieces, err := cutUp(from, b.Size)
	if err != nil {
		return ofDisk(err)
	}
	missing, err := c.missing(ctx, digestsOf(pieces))
	for try := 0; err == nil; try++ {
		if err = c.sendPieces(ctx, from, pieces, missing, moved); err != nil {
			return err
		}
		missing, err = c.assemble(ctx, b, pieces)
		if err == nil && len(missing) == 0 {
			return nil
		}
		if try == retries {
			return fmt.Errorf("the service did not take blob %s: it loses its pieces", b.Digest.Short())
		}
	}
	return err
}

// piece is a part of a blob.
type piece struct {
	digest digest.Digest
	from   int64
	length int64
}

// Pieces are small enough to arrive on a slow line before the client ends, and
// few enough for the service.
const (
	smallestPiece = 1 << 20
	mostPieces    = 64 // as long as they stay below protocol.PieceBytes
)

// cutUp divides a blob into pieces, always in the same way.
func cutUp(from io.ReaderAt, size int64) ([]piece, error) {
	length := min(max(smallestPiece, size/mostPieces), protocol.PieceBytes)
	buf := make([]byte, length)
	var out []piece
	for at := int64(0); at < size; at += length {
		p := piece{from: at, length: min(length, size-at)}
		if _, err := from.ReadAt(buf[:p.length], at); err != nil {
			return nil, err
		}
		p.digest = digest.Of(buf[:p.length])
		out = append(out, p)
	}
	return out, nil
}

func digestsOf(pieces []piece) []digest.Digest {
	out := make([]digest.Digest, len(pieces))
	for i, p := range pieces {
		out[i] = p.digest
	}
	return out
}

// sendPieces uploads the missing pieces over several connections.
func (c *Client) sendPieces(ctx context.Context, from io.ReaderAt, pieces []piece, missing []digest.Digest, moved *atomic.Int64) error {
	lacks := map[digest.Digest]bool{}
	for _, d := range missing {
		lacks[d] = true
	}
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(connections)
	for _, p := range pieces {
		if lacks[p.digest] {
			delete(lacks, p.digest) // equal pieces are one blob
			g.Go(func() error { return c.sendPiece(inner, from, p, moved) })
		}
	}
	return g.Wait()
}

func (c *Client) sendPiece(ctx context.Context, from io.ReaderAt, p piece, moved *atomic.Int64) error {
	data := make([]byte, p.length)
	if n, err := from.ReadAt(data, p.from); n < len(data) {
		return ofDisk(err)
	}
	resp, err := c.request(ctx, request{
		method: http.MethodPut, path: "blobs/" + p.digest.String(), header: http.Header{"Content-Type": {protocol.TypeBlob}},
		body: func() io.Reader { return &countingReader{bytes.NewReader(data), moved} }, length: p.length,
	})
	if err != nil {
		return c.failed(ctx, err)
	}
	return resp.Body.Close()
}

// assemblyRate is how many bytes per second a service puts together at least.
const assemblyRate = 16 << 20

// assemble asks the service to put pieces together, and returns those that it
// does not have.
func (c *Client) assemble(ctx context.Context, b protocol.Blob, pieces []piece) (missing []digest.Digest, err error) {
	var answer protocol.PackResult
	c.patienceFor(ctx).forgive(time.Duration(float64(b.Size) / assemblyRate * float64(time.Second)))
	err = c.try(
		ctx,
		http.MethodPost,
		"blobs/"+b.Digest.String()+"/assembly",
		protocol.Assembly{Size: b.Size, Pieces: digestsOf(pieces)},
		&answer,
	)
	var r refusal
	switch {
	case errors.As(err, &r) && r.Status == http.StatusConflict && len(r.Missing) > 0:
		return r.Missing, nil
	case err != nil:
		return nil, c.failed(ctx, err)
	case !answer.OK:
		return nil, fmt.Errorf("the service did not take blob %s: %s", b.Digest.Short(), answer.Error)
	}
	return nil, nil
}

// missing returns the blobs that the service does not have, and protects the
// others from its cleanup for a while.
func (c *Client) missing(ctx context.Context, among []digest.Digest) ([]digest.Digest, error) {
	var out []digest.Digest
	for part := range slices.Chunk(among, protocol.MaxDigests) {
		var answer protocol.Digests
		if err := c.call(ctx, http.MethodPost, "blobs/missing", protocol.Digests{Digests: part}, &answer); err != nil {
			return nil, err
		}
		out = append(out, answer.Digests...)
	}
	return out, nil
}

// sendPack uploads small blobs in a pack. After a cut the service has what arrived before,
// so only the rest is sent again.
func (c *Client) sendPack(ctx context.Context, blobs []protocol.Blob, moved *atomic.Int64) error {
	for try := 0; ; try++ {
		err := c.sendMembers(ctx, blobs, moved)
		var local *localError
		switch {
		case err == nil:
			return nil
		case IsRefusal(err), errors.As(err, &local), errors.Is(err, context.DeadlineExceeded), try == retries, ctx.Err() != nil, c.Down():
			return c.failed(ctx, err)
		}
		lack, err := c.missing(ctx, digestsIn(blobs))
		if err != nil {
			return err
		}
		left := map[digest.Digest]bool{}
		for _, d := range lack {
			left[d] = true
		}
		rest := slices.DeleteFunc(slices.Clone(blobs), func(b protocol.Blob) bool { return !left[b.Digest] })
		if len(rest) == 0 {
			return nil
		}
		if len(rest) < len(blobs) {
			try = 0
		}
		blobs = rest
	}
}

func digestsIn(blobs []protocol.Blob) []digest.Digest {
	out := make([]digest.Digest, len(blobs))
	for i, b := range blobs {
		out[i] = b.Digest
	}
	return out
}

// compressing is how many frames are compressed before the first of them is sent.
const compressing = 16

// writePack writes a pack of blobs. The service stores the frames as they are.
func (c *Client) writePack(w io.Writer, blobs []protocol.Blob) error {
	sizes := make([]int64, len(blobs))
	for i, b := range blobs {
		if sizes[i] = b.Size; b.Size < 0 { // not known: in a frame of its own
			sizes[i] = pack.Together
		}
	}
	from := 0
	for ends := range slices.Chunk(pack.Groups(sizes), compressing) {
		frames := make([][]byte, len(ends))
		var g errgroup.Group
		g.SetLimit(runtime.GOMAXPROCS(0))
		for i, to := range ends {
			part := blobs[from:to]
			from = to
			g.Go(func() (err error) {
				frames[i], err = c.join(part)
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return err
		}
		for _, frame := range frames {
			if _, err := w.Write(frame); err != nil {
				return err
			}
		}
	}
	_, err := w.Write(pack.End())
	return err
}

// join returns blobs as one frame.
func (c *Client) join(blobs []protocol.Blob) ([]byte, error) {
	list := make([]pack.Blob, len(blobs))
	for i, b := range blobs {
		text, err := c.store.Read(b.Digest)
		if err != nil {
			return nil, ofDisk(err)
		}
		list[i] = pack.Blob{Digest: b.Digest, Text: text}
	}
	return pack.Join(list), nil
}

// sendMembers sends a pack while it is made.
func (c *Client) sendMembers(ctx context.Context, blobs []protocol.Blob, moved *atomic.Int64) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var mu sync.Mutex
	var made error // what went wrong here
	resp, err := c.request(ctx, request{
		method: http.MethodPost, path: "packs",
		header: http.Header{"Content-Type": {protocol.TypeFrames}, "Content-Encoding": {"zstd"}, "Accept": {"application/json"}},
		body: func() io.Reader {
			r, w := io.Pipe()
			context.AfterFunc(ctx, func() { r.CloseWithError(ctx.Err()) })
			go func() {
				err := c.writePack(w, blobs)
				if err != nil && ctx.Err() == nil {
					mu.Lock()
					made = err
					mu.Unlock()
				}
				w.CloseWithError(err)
			}()
			return &countingReader{r, moved}
		}, length: -1, once: true,
	})
	mu.Lock()
	here := made
	mu.Unlock()
	if here != nil {
		return here
	}
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var answer protocol.PackAnswer
	if err := decodeAnswer(resp.Body, &answer); err != nil {
		return err
	}
	for _, res := range answer.Results {
		if !res.OK {
			return fmt.Errorf("the service did not take blob %s: %s", res.Digest.Short(), res.Error)
		}
	}
	return nil
}
