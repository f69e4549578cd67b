package remote

import (
	"context"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/protocol"
)

const (
	largestPack = 56 << 20 // bytes of blobs in a pack, so that the service stores it as one object
	packMembers = protocol.MaxDigests
	connections = 4
)

// portions say how large packs are. There are enough for all connections, and not more than
// necessary.
type portions struct {
	smallest int64 // bytes of blobs in a pack, if there are enough for another one
	least    int64 // parts of all blobs, of which a pack has at least one
	left     int64 // parts of what is left, of which the next pack has one
}

var (
	// Each pack becomes one object of the service.
	uploadPortions = portions{smallest: 8 << 20, least: 6 * connections, left: connections}
	// The last packs are small: while a single connection is busy, so is a single processor.
	fetchPortions = portions{smallest: 2 << 20, least: 24 * connections, left: connections - 1}
)

// packs divides blobs into those that travel together and those that travel
// alone. The first packs are smaller, each by a half, so that the first bytes come soon and the
// connections do not all wait for the service at the same time; the last ones, so that they end at
// the same time.
func (p portions) packs(blobs []protocol.Blob) (together [][]protocol.Blob, alone []protocol.Blob) {
	total := int64(0)
	for _, b := range blobs {
		if b.Size <= protocol.PackedBlob {
			total += max(b.Size, 0)
		}
	}
	least := max(p.smallest, total/p.least+1)
	var now []protocol.Blob
	bytes, left := int64(0), total
	most := min(max(least, left/p.left), largestPack)
	for _, b := range blobs {
		if b.Size > protocol.PackedBlob {
			alone = append(alone, b)
			continue
		}
		half := max(connections-1-len(together), 0)
		if len(now) == packMembers>>half || len(now) > 0 && bytes+b.Size > most>>half {
			left -= bytes
			together, now, bytes = append(together, now), nil, 0
			most = min(max(least, left/p.left), largestPack)
		}
		now = append(now, b)
		bytes += max(b.Size, 0)
	}
	if len(now) > 0 {
		together = append(together, now)
	}
	return together, alone
}

// carry transfers blobs over several connections, small ones in packs, and
// returns the number of bytes transferred.
func carry(ctx context.Context, blobs []protocol.Blob, by portions, pack func(context.Context, []protocol.Blob, *atomic.Int64) error,
	one func(context.Context, protocol.Blob, *atomic.Int64) error) (int64, error) {
	var moved atomic.Int64
	together, alone := by.packs(blobs)
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(connections)
	for _, p := range together {
		g.Go(func() error { return pack(ctx, p, &moved) })
	}
	for _, b := range alone {
		g.Go(func() error { return one(ctx, b, &moved) })
	}
	err := g.Wait()
	return moved.Load(), err
}
