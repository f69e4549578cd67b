package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/outputs"
)

// readings are the outputs in the checkout that tasks of this run are reading. While a task reads
// outputs, no process restores, clears or runs the task that made them. It is safe for concurrent use.
type readings struct {
	work    *outputs.Workspace
	outputs *Outputs

	mu   sync.Mutex
	held map[*graph.Task]*reading
}

// reading is the lock of one task's outputs, shared by those who read them.
type reading struct {
	readers int
	unlock  func()
	err     error
	taken   chan struct{} // closed when the lock is there, or cannot be taken
}

// read locks the outputs that a task will read, and compares them with their listings. If those of a
// dependency differ, it returns that one: it has to be restored or run first. Changed tells, afterwards,
// what of them was touched since. Done must be called in any case.
func (r *readings) read(ctx context.Context, t *graph.Task) (differs *graph.Task, changed func() string, done func(), err error) {
	var locked []*graph.Task
	done = func() {
		for _, u := range locked {
			r.release(u)
		}
	}
	if t.Isolation == decl.Sealed { // it reads copies of its own
		return nil, nil, done, nil
	}
	before := map[*graph.Task]digest.Digest{}
	var among []*graph.Task
	for _, u := range t.KeyDependencies() {
		out := r.outputs.Get(u)
		if out == nil || !u.WritesGiven() {
			continue
		}
		locked = append(locked, u)
		if err := r.lock(ctx, u); err != nil {
			return nil, nil, done, err
		}
		if out.Unkept != "" {
			continue // nothing that comes of them is kept
		}
		right, err := r.work.Outputs(u).Right(ctx, out.List)
		if err != nil || !right {
			return u, nil, done, err
		}
		among = append(among, u)
		if before[u], err = r.state(u); err != nil {
			return nil, nil, done, err
		}
	}
	changed = func() string {
		for _, u := range among {
			if now, err := r.state(u); err != nil || now != before[u] {
				return fmt.Sprintf("the outputs of %s were touched while it ran", u.Addr())
			}
		}
		return ""
	}
	return nil, changed, done, nil
}

// state returns a digest of the names and statuses of a task's outputs.
func (r *readings) state(u *graph.Task) (digest.Digest, error) {
	b, _, err := r.work.Outputs(u).Stamps(nil, time.Now().UnixNano())
	return digest.Of(b), err
}

func (r *readings) lock(ctx context.Context, u *graph.Task) error {
	r.mu.Lock()
	if r.held == nil {
		r.held = map[*graph.Task]*reading{}
	}
	x := r.held[u]
	isFirst := x == nil
	if isFirst {
		x = &reading{taken: make(chan struct{})}
		r.held[u] = x
	}
	x.readers++
	r.mu.Unlock()
	if isFirst {
		x.unlock, x.err = r.work.State.LockForReading(ctx, u.Addr())
		close(x.taken)
	}
	select {
	case <-x.taken:
		return x.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (r *readings) release(u *graph.Task) {
	r.mu.Lock()
	defer r.mu.Unlock()
	x := r.held[u]
	if x == nil {
		return
	}
	if x.readers--; x.readers > 0 {
		return
	}
	delete(r.held, u)
	go func() { // whoever took the lock may still be waiting for it
		<-x.taken
		if x.unlock != nil {
			x.unlock()
		}
	}()
}
