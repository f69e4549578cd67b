package transfer

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// Delivery puts outputs into the checkout. It is safe for concurrent use.
type Delivery struct {
	Work  *outputs.Workspace
	Blobs *Blobs

	flights singleflight.Group
	mu      sync.Mutex
	done    map[string]bool
}

// Brought says what it took to put the outputs of a task on the disk.
type Brought struct {
	Task  *graph.Task
	Bytes int64 // that were fetched
	Took  time.Duration
}

// Deliver makes sure that the disk has the outputs of a task because another
// task will read them. Several callers share one delivery, and each may stop
// waiting. It returns nil if an earlier call has delivered the outputs.
func (d *Delivery) Deliver(ctx context.Context, t *graph.Task, list listing.List) (*Brought, error) {
	id := t.Addr() + " " + list.Digest().String()
	ch := d.flights.DoChan(id, func() (any, error) {
		if d.isDone(id) {
			return (*Brought)(nil), nil
		}
		began := d.Blobs.Now()
		bytes, err := d.Bring(ctx, t, list)
		if err != nil {
			return (*Brought)(nil), err
		}
		d.setDone(id)
		return &Brought{t, bytes, d.Blobs.Now().Sub(began)}, nil
	})
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case res := <-ch:
		return res.Val.(*Brought), res.Err
	}
}

// Forget makes the next delivery of a task's outputs look at the disk again.
func (d *Delivery) Forget(t *graph.Task) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id := range d.done {
		if strings.HasPrefix(id, t.Addr()+" ") {
			delete(d.done, id)
		}
	}
}

func (d *Delivery) isDone(id string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.done[id]
}

func (d *Delivery) setDone(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.done == nil {
		d.done = map[string]bool{}
	}
	d.done[id] = true
}

// Bring puts a listing on the disk, and returns how many bytes were fetched for
// it. A blob that turns out to be damaged here is fetched again.
func (d *Delivery) Bring(ctx context.Context, t *graph.Task, list listing.List) (int64, error) {
	unlock, _, err := d.Work.State.Lock(ctx, t.Addr())
	if err != nil {
		return 0, err
	}
	defer unlock()
	last := d.Work.OwnFiles(t)
	var total int64
	for try := 0; ; try++ {
		bytes, err := d.bring(ctx, t, list, last)
		total += bytes
		if !errors.Is(err, store.ErrDamaged) {
			return total, err
		}
		if try > 0 {
			return total, fmt.Errorf("%w: %w", protocol.ErrGone, err)
		}
	}
}

// bring writes files while their contents arrive.
func (d *Delivery) bring(ctx context.Context, t *graph.Task, list, last listing.List) (int64, error) {
	b := beginning{done: make(chan struct{})}
	fetching, stop := context.WithCancel(ctx)
	defer stop()
	go func() { // while the first ones are on their way
		defer close(b.done)
		if b.r, b.err = d.Work.Outputs(t).Begin(list); b.err != nil {
			stop()
		}
	}()
	bytes, err := d.Blobs.fetch(fetching, d.Blobs.absent(Of(list)), b.arrived)
	<-b.done
	if b.err != nil {
		return bytes, b.err
	}
	defer b.r.Drop()
	if err != nil {
		return bytes, err
	}
	return bytes, b.r.Finish(ctx, last)
}

// beginning is a restoration that is being begun.
type beginning struct {
	done chan struct{} // closed when it has begun, or failed
	r    *outputs.Restoration
	err  error
}

// arrived is [outputs.Restoration.Arrived], once it has begun.
func (b *beginning) arrived(id digest.Digest, text []byte) {
	if <-b.done; b.err == nil {
		b.r.Arrived(id, text)
	}
}

// Tidy deals with older outputs of a task whose outputs are not needed on the
// disk: it replaces them if the bytes are on this machine, and otherwise clears
// them. It tells whether the disk then has the outputs of the listing.
func (d *Delivery) Tidy(ctx context.Context, t *graph.Task, list listing.List) (onDisk bool, err error) {
	out := d.Work.Outputs(t)
	some, err := out.Any()
	if err != nil || !some {
		return len(list) == 0, err
	}
	if d.Blobs.Missing(list) == 0 {
		_, err = d.Bring(ctx, t, list)
		return err == nil, err
	}
	unlock, _, err := d.Work.State.Lock(ctx, t.Addr())
	if err != nil {
		return false, err
	}
	defer unlock()
	if err := out.Clear(ctx, d.Work.OwnFiles(t)); err != nil {
		return false, err
	}
	return len(list) == 0, out.PutBack()
}
