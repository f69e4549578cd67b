package engine

import (
	"context"
	"sync"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
)

// asker asks the shared cache: once for the whole plan by early keys, when the
// first task needs it, and then for what that did not answer. Questions that
// come while one is under way go together in the next.
type asker struct {
	r        *run
	early    sync.Once
	keysOnce sync.Once
	keys     map[*graph.Task]digest.Digest
	found    map[digest.Digest][]protocol.Entry // by key; written under mu
	mu       sync.Mutex
	asked    map[digest.Digest]bool
	queue    []pending
	asking   bool
}

type pending struct {
	q    protocol.Query
	done chan struct{}
}

func newAsker(r *run) *asker {
	return &asker{r: r, found: map[digest.Digest][]protocol.Entry{}, asked: map[digest.Digest]bool{}}
}

// entries returns candidates whose key is the one wanted.
func (a *asker) entries(ctx context.Context, t *graph.Task, k digest.Digest) []protocol.Entry {
	a.early.Do(func() { a.askEarly(ctx) })
	a.mu.Lock()
	have, known := a.found[k], a.asked[k]
	if len(have) > 0 || known {
		a.mu.Unlock()
		return have
	}
	q := pending{protocol.Query{Task: t.Addr(), Key: k}, make(chan struct{})}
	a.queue = append(a.queue, q)
	if !a.asking {
		a.asking = true
		a.mu.Unlock()
		a.drain(ctx)
	} else {
		a.mu.Unlock()
	}
	<-q.done
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.found[k]
}

// drain asks until no question is left.
func (a *asker) drain(ctx context.Context) {
	for {
		a.mu.Lock()
		batch := a.queue
		a.queue = nil
		if len(batch) == 0 {
			a.asking = false
			a.mu.Unlock()
			return
		}
		a.mu.Unlock()
		queries := make([]protocol.Query, len(batch))
		for i, b := range batch {
			queries[i] = b.q
		}
		a.lookup(ctx, queries)
		for _, b := range batch {
			close(b.done)
		}
	}
}

func (a *asker) lookup(ctx context.Context, queries []protocol.Query) {
	if len(queries) == 0 {
		return
	}
	entries, err := a.r.Shared.Lookup(ctx, queries)
	listings := make([]protocol.Blob, len(entries))
	for i, e := range entries {
		listings[i] = protocol.Blob{Digest: e.Listing, Size: -1}
	}
	// All listings in one go; whoever needs one that failed asks again.
	_, _ = a.r.have(ctx, listings)
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, q := range queries {
		if err == nil && !q.Key.IsZero() {
			a.asked[q.Key] = true
		}
	}
	for _, e := range entries {
		a.found[e.Key] = append(a.found[e.Key], e)
	}
}

// askEarly brings candidates for all tasks of the plan that may be shared, by
// keys computed from files alone.
func (a *asker) askEarly(ctx context.Context) {
	keys := a.earlyKeys()
	var queries []protocol.Query
	for _, n := range a.r.nodes {
		if k, ok := keys[n.task]; ok && shareable(n.task) && n.task.WithoutWrites() == nil {
			queries = append(queries, protocol.Query{Task: n.task.Addr(), EarlyKey: k})
		}
	}
	a.lookup(ctx, queries)
}

// earlyKeys computes the early keys of the plan, once. A task whose files
// cannot be read has none.
func (a *asker) earlyKeys() map[*graph.Task]digest.Digest {
	a.keysOnce.Do(func() {
		keys := map[*graph.Task]digest.Digest{}
		snap := a.r.snapshot()
		for _, n := range a.r.nodes {
			tk, err := a.r.ingredients(n.task, snap, func(u *graph.Task) digest.Digest { return keys[u] })
			if err == nil {
				keys[n.task] = tk.in.EarlyKey()
			}
		}
		a.keys = keys
	})
	return a.keys
}
