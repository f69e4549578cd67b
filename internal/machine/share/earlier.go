package share

import (
	"context"
	"errors"
	"sync"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// Catalogue is the part of the shared cache that says what it has, and receives
// the rest.
type Catalogue interface {
	Service
	// Lookup returns the entries that the shared cache has for these tasks.
	Lookup(ctx context.Context, tasks []protocol.Query) ([]protocol.Entry, error)
}

// Report says what became of results from before there was a service.
type Report struct {
	Shared     int   `json:"shared"`
	Bytes      int64 `json:"bytes"`      // transferred
	Present    int   `json:"present"`    // the service had them
	Differ     int   `json:"differ"`     // the service has other outputs under their key, which stay
	Incomplete int   `json:"incomplete"` // a part is no longer in this machine's cache
}

// Earlier uploads results that were made on this machine without a service.
// After an error the report says what was done before it.
func Earlier(ctx context.Context, st *store.Store, to Catalogue, entries []protocol.Entry) (Report, error) {
	var report Report
	var ask []protocol.Query
	for _, e := range entries {
		ask = append(ask, protocol.Query{Task: e.Task, Key: e.Key})
	}
	have, err := to.Lookup(ctx, ask)
	if err != nil {
		return report, err
	}
	present := map[digest.Digest]bool{}
	for _, e := range have {
		present[e.Key] = true
	}
	var mu sync.Mutex
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, e := range entries {
		if present[e.Key] {
			report.Present++
			continue
		}
		g.Go(func() error {
			bytes, filed, err := shareEarlier(inner, st, to, e)
			mu.Lock()
			defer mu.Unlock()
			report.Bytes += bytes
			switch {
			case errors.Is(err, protocol.ErrGone):
				report.Incomplete++
				return nil
			case err != nil:
				return err
			case filed.Diverged:
				report.Differ++
			case filed.Created:
				report.Shared++
			default:
				report.Present++
			}
			return nil
		})
	}
	err = g.Wait()
	return report, err
}

func shareEarlier(ctx context.Context, st *store.Store, to Catalogue, e protocol.Entry) (int64, protocol.Filed, error) {
	text, err := st.Read(e.Listing)
	if err != nil {
		return 0, protocol.Filed{}, protocol.ErrGone
	}
	list, err := listing.Parse(text)
	if err != nil {
		return 0, protocol.Filed{}, protocol.ErrGone
	}
	blobs := transfer.Of(list)
	for _, b := range blobs {
		if !st.Has(b.Digest) {
			return 0, protocol.Filed{}, protocol.ErrGone
		}
	}
	for _, d := range append([]digest.Digest{e.Log, e.Ingredients}, e.Refs...) {
		if !d.IsZero() && !st.Has(d) {
			return 0, protocol.Filed{}, protocol.ErrGone
		}
	}
	send, err := to.Queue(e, blobs)
	if err != nil {
		return 0, protocol.Filed{}, err
	}
	return send(ctx)
}
