// Package transfer brings data to where it is needed: blobs from the shared
// cache into this machine's, and outputs into the checkout. It does not decide
// which results are used.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// Fetcher is the part of the shared cache that blobs come from.
type Fetcher interface {
	// Fetch downloads blobs into this machine's store, and returns the number
	// of bytes. It wraps [protocol.ErrGone] if the service no longer has one.
	// Arrived, if set, gets the contents of small ones, verified, at once: it is
	// called by several goroutines, and must not keep them.
	FetchAnd(ctx context.Context, blobs []protocol.Blob, arrived func(d digest.Digest, text []byte)) (int64, error)
	// Down tells whether nothing can be fetched at present.
	Down() bool
}

// CanFetch tells whether there is a shared cache that is not given up.
func (b *Blobs) CanFetch() bool { return b.From != nil && !b.From.Down() }

// Blobs brings blobs into this machine's store. It is safe for concurrent use.
type Blobs struct {
	Store *store.Store
	From  Fetcher // nil: there is no shared cache
	Now   func() time.Time
	Spent Span // time in which anything was being fetched

	mu   sync.Mutex
	line decide.Line // measurements of the connection
}

// SetLine sets the measurements of earlier runs.
func (b *Blobs) SetLine(l decide.Line) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.line = l
}

// Line returns the measurements of the connection, including this run's.
func (b *Blobs) Line() decide.Line {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.line
}

// Have makes sure that blobs are in the store, and returns how many bytes were
// fetched for that.
func (b *Blobs) Have(ctx context.Context, blobs []protocol.Blob) (int64, error) {
	return b.fetch(ctx, b.absent(blobs), nil)
}

// fetch fetches blobs that are not in the store.
func (b *Blobs) fetch(ctx context.Context, missing []protocol.Blob, arrived func(digest.Digest, []byte)) (int64, error) {
	if len(missing) == 0 {
		return 0, nil
	}
	if b.From == nil {
		return 0, fmt.Errorf("%w: blob %s", protocol.ErrGone, missing[0].Digest.Short())
	}
	defer b.Spent.During(b.Now)()
	began := b.Now()
	bytes, err := b.From.FetchAnd(ctx, missing, arrived)
	if err == nil && bytes > 0 {
		b.mu.Lock()
		b.line = b.line.With(bytes, b.Now().Sub(began).Seconds())
		b.mu.Unlock()
	}
	return bytes, err
}

// Read returns a small blob, which it fetches if necessary.
func (b *Blobs) Read(ctx context.Context, d digest.Digest) ([]byte, error) {
	text, err := b.Store.Read(d)
	if err == nil || d.IsZero() {
		return text, err
	}
	if _, err := b.Have(ctx, []protocol.Blob{{Digest: d, Size: -1}}); err != nil {
		return nil, err
	}
	return b.Store.Read(d)
}

// Listing returns a listing, which it fetches if necessary.
func (b *Blobs) Listing(ctx context.Context, d digest.Digest) (listing.List, error) {
	if _, err := b.Have(ctx, []protocol.Blob{{Digest: d, Size: -1}}); err != nil {
		return nil, err
	}
	list, err := b.Store.Listing(d)
	switch {
	case errors.Is(err, listing.ErrForm):
		return nil, fmt.Errorf("%w: %w", outputs.ErrRefused, err)
	case err != nil:
		return nil, fmt.Errorf("%w: its listing: %w", protocol.ErrGone, err)
	}
	return list, nil
}

// Missing returns the bytes of a listing's outputs that are not on this
// machine; an empty blob counts as one byte.
func (b *Blobs) Missing(list listing.List) int64 {
	var sum int64
	for _, blob := range b.absent(Of(list)) {
		sum += max(blob.Size, 1)
	}
	return sum
}

// absent returns those blobs that are not on this machine.
func (b *Blobs) absent(blobs []protocol.Blob) []protocol.Blob {
	digests := make([]digest.Digest, len(blobs))
	for i, blob := range blobs {
		digests[i] = blob.Digest
	}
	list := b.Store.Absent(digests)
	if len(list) == len(blobs) || len(list) == 0 {
		return blobs[:len(list)]
	}
	absent := make(map[digest.Digest]bool, len(list))
	for _, d := range list {
		absent[d] = true
	}
	var out []protocol.Blob
	for _, blob := range blobs {
		if absent[blob.Digest] {
			out = append(out, blob)
		}
	}
	return out
}

// Of returns the blobs of a listing, each once.
func Of(list listing.List) []protocol.Blob {
	out := make([]protocol.Blob, 0, len(list))
	seen := make(map[digest.Digest]bool, len(list))
	for _, row := range list {
		if d, ok := row.Blob(); ok && !seen[d] {
			seen[d] = true
			out = append(out, protocol.Blob{Digest: d, Size: row.Size})
		}
	}
	return out
}
