package engine

import (
	"context"
	"fmt"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/protocol"
)

// weighed is a decision between running a task and fetching what it made.
type weighed struct{ decide.Choice }

// sentence says it for people.
func (w weighed) sentence() string {
	return fmt.Sprintf("running it takes about %.0f s here, fetching its %.1f MB about %.0f s", w.Running, float64(w.Bytes)/1e6, w.Fetching)
}

// weigh decides whether to run a task that an entry of the shared cache would
// settle: only where bytes would have to move for it, what it reads is on the
// disk, and both ways have been measured.
func (r *run) weigh(ctx context.Context, n *node, e protocol.Entry) weighed {
	t := n.task
	last, _ := r.State.Last(t.Addr())
	if t.Reuse != decl.Auto || last.Fetch || last.Here == 0 || (!n.picked && r.opt.Fetch != FetchAll) {
		return weighed{}
	}
	for _, u := range t.KeyDependencies() {
		b := r.of[u]
		b.place.mu.Lock()
		there := b.place.onDisk || len(b.place.list) == 0
		b.place.mu.Unlock()
		if !there {
			return weighed{}
		}
	}
	list, _, err := r.entryListing(ctx, e)
	if err != nil {
		return weighed{}
	}
	if right, err := r.outputs(t).Right(ctx, list); err != nil || right {
		return weighed{}
	}
	r.lineMu.Lock()
	line := r.line
	r.lineMu.Unlock()
	return weighed{decide.RunOrFetch(last.Here, r.lacking(list), line)}
}
