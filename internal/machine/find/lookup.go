package find

import (
	"context"
	"sync"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// Catalogue is the part of the shared cache that is searched.
type Catalogue interface {
	// Lookup returns candidates for keys and early keys.
	Lookup(ctx context.Context, tasks []protocol.Query) ([]protocol.Entry, error)
}

// Lookups asks the shared cache: once for the whole plan by early keys, when the
// first task needs it, and then for the rest by key. Questions that arrive while
// a request is in progress go together in the next one. It is safe for
// concurrent use.
type Lookups struct {
	Catalogue Catalogue
	Blobs     *transfer.Blobs
	// Early returns the early keys of the tasks of the plan that may be shared.
	Early func() []protocol.Query

	early  sync.Once
	mu     sync.Mutex
	found  map[digest.Digest][]protocol.Entry // by key
	asked  map[digest.Digest]bool
	queue  []pending
	asking bool
}

type pending struct {
	query protocol.Query
	done  chan struct{}
}

// Entries returns the entries with a key, in the order of the token's shelves.
func (l *Lookups) Entries(ctx context.Context, t *graph.Task, k digest.Digest) []protocol.Entry {
	l.early.Do(func() { l.lookUp(ctx, l.Early()) })
	p, have := l.enqueue(ctx, t, k)
	if p == nil {
		return have
	}
	select {
	case <-p.done:
	case <-ctx.Done():
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.found[k]
}

// Forget makes the next question about a key ask again.
func (l *Lookups) Forget(k digest.Digest) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.found[k]) == 0 {
		delete(l.asked, k)
	}
}

// enqueue adds a question, unless the answer is known, and starts to ask if
// nobody does.
func (l *Lookups) enqueue(ctx context.Context, t *graph.Task, k digest.Digest) (*pending, []protocol.Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if have := l.found[k]; len(have) > 0 || l.asked[k] {
		return nil, have
	}
	p := &pending{protocol.Query{Task: t.Addr(), Key: k}, make(chan struct{})}
	l.queue = append(l.queue, *p)
	if !l.asking {
		l.asking = true
		go l.drain(ctx)
	}
	return p, nil
}

// drain asks until no question is left. All callers belong to one run, so any of
// their contexts will do.
func (l *Lookups) drain(ctx context.Context) {
	for {
		batch := l.next()
		if len(batch) == 0 {
			return
		}
		queries := make([]protocol.Query, len(batch))
		for i, b := range batch {
			queries[i] = b.query
		}
		l.lookUp(ctx, queries)
		for _, b := range batch {
			close(b.done)
		}
	}
}

func (l *Lookups) next() []pending {
	l.mu.Lock()
	defer l.mu.Unlock()
	batch := l.queue
	l.queue = nil
	l.asking = len(batch) > 0
	return batch
}

func (l *Lookups) lookUp(ctx context.Context, queries []protocol.Query) {
	if len(queries) == 0 {
		return
	}
	entries, err := l.Catalogue.Lookup(ctx, queries)
	listings := make([]protocol.Blob, len(entries))
	for i, e := range entries {
		listings[i] = protocol.Blob{Digest: e.Listing, Size: -1}
	}
	// All listings in one request; whoever needs one that failed asks again.
	_, _ = l.Blobs.Have(ctx, listings)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.found == nil {
		l.found, l.asked = map[digest.Digest][]protocol.Entry{}, map[digest.Digest]bool{}
	}
	for _, q := range queries {
		if err == nil && !q.Key.IsZero() {
			l.asked[q.Key] = true
		}
	}
	for _, e := range entries {
		l.found[e.Key] = append(l.found[e.Key], e)
	}
}
