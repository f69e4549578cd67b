package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// origins are where entries may come from that this run may see: what this
// client made for its own shelf, and what the shelves have that its token
// takes from.
func (r *run) origins() []store.Origin {
	repo := r.Graph.Repo.Name
	var out []store.Origin
	if r.Shared == nil && r.self.Repo == "" {
		return []store.Origin{{Repo: repo}}
	}
	shelves := slices.Clone(r.self.ReadsFrom)
	if s := r.self.WritesTo; s != "" && !slices.Contains(shelves, s) {
		shelves = append(shelves, s)
	}
	for _, s := range shelves {
		out = append(out, store.Origin{Repo: repo, Service: r.Service, Shelf: s})
	}
	if r.self.WritesTo != "trusted" { // what was made without any service is a person's own
		out = append(out, store.Origin{Repo: repo})
	}
	return out
}

func (r *run) ownOrigin() store.Origin {
	o := store.Origin{Repo: r.Graph.Repo.Name}
	if r.self.WritesTo != "" {
		o.Service, o.Shelf = r.Service, r.self.WritesTo
	}
	return o
}

// fromEntry settles the task by an entry, if there is one whose blobs are to
// be had. Gone tells that there was one, and that they are not.
func (r *run) fromEntry(ctx context.Context, n *node, tk taken, res *Result) (ev *event, gone bool) {
	for _, o := range r.origins() {
		e, ok := r.Store.Entry(tk.key, o)
		if !ok {
			continue
		}
		ev, err := r.useEntry(ctx, n, e, res, Restored)
		if err == nil {
			return ev, false
		}
		if ctx.Err() != nil {
			return &event{n: n, result: &Result{Task: n.task, Outcome: Stopped}}, false
		}
		gone = true
		r.refused(n.task, e, err)
	}
	if r.Shared == nil || !shareable(n.task) || r.opt.Fetch == FetchNone {
		return nil, gone
	}
	began := r.Now()
	for _, e := range r.ask.entries(ctx, n.task, tk.key) {
		if c := r.weigh(ctx, n, e); c.Run {
			return &event{n: n, verdict: &verdict{reason: key.Faster, taken: tk, note: c.sentence(), listing: e.Listing}}, false
		}
		ev, err := r.useEntry(ctx, n, e, res, Fetched)
		if err == nil {
			o := store.Origin{Repo: r.Graph.Repo.Name, Service: r.Service, Shelf: e.Shelf}
			if _, err := r.Store.PutEntry(e, o); err != nil {
				r.Observer.Warn("this machine's cache: " + err.Error())
			}
			if ev.result.BytesIn > 0 {
				ev.result.Cost = r.Now().Sub(began)
			}
			return ev, false
		}
		if ctx.Err() != nil {
			return &event{n: n, result: &Result{Task: n.task, Outcome: Stopped}}, false
		}
		gone = gone || errors.Is(err, protocol.ErrGone)
		r.refused(n.task, e, err)
	}
	return nil, gone
}

func (r *run) refused(t *graph.Task, e protocol.Entry, err error) {
	if errors.Is(err, protocol.ErrGone) || errors.Is(err, protocol.ErrDown) {
		return
	}
	r.Observer.Warn(fmt.Sprintf("%s: what %s made is not used: %v", t.Addr(), orName(e.MadeBy.Name, "somebody"), err))
}

func orName(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// useEntry settles the task by one entry.
func (r *run) useEntry(ctx context.Context, n *node, e protocol.Entry, res *Result, how Outcome) (*event, error) {
	t := n.task
	list, moved, err := r.entryListing(ctx, e)
	if err != nil {
		return nil, err
	}
	o := r.outputs(t)
	if err := o.Check(list); err != nil {
		return nil, err
	}
	right, err := o.Right(ctx, list)
	if err != nil {
		return nil, err
	}
	res.Outcome, res.Listing, res.Log, res.Made, res.MadeBy, res.BytesIn = Cached, e.Listing, e.Log, e.Seconds, &e.MadeBy, moved
	res.Ingredients = e.Ingredients
	switch {
	case right && len(list) > 0 && how == Restored:
		res.Outcome = Current
	case right:
	case n.picked || r.opt.Fetch == FetchAll:
		in, err := r.bring(ctx, t, list)
		res.BytesIn += in
		if err != nil {
			return nil, err
		}
		res.Outcome, right = how, true
		if how == Restored && in > 0 {
			res.Outcome = Fetched
		}
	default:
		if right, err = r.settleStale(ctx, t, list); err != nil {
			return nil, err
		}
	}
	if err := r.note(t, res, e.Ingredients); err != nil {
		return nil, err
	}
	return &event{n: n, result: res, place: &placedAt{list, right, &e}}, nil
}

func (r *run) note(t *graph.Task, res *Result, ingredients digest.Digest) error {
	took := res.Made
	return r.State.Note(checkout.Record{
		Task: t.Addr(), Key: res.Key, Ingredients: ingredients, Listing: res.Listing, Log: res.Log,
		Run: r.opt.Run, At: r.Now(), Took: took,
	})
}

// entryListing reads an entry's listing, fetching it if it is not here.
func (r *run) entryListing(ctx context.Context, e protocol.Entry) (listing.List, int64, error) {
	moved, err := r.have(ctx, []protocol.Blob{{Digest: e.Listing, Size: -1}})
	if err != nil {
		return nil, moved, err
	}
	text, err := r.Store.Read(e.Listing)
	if err != nil {
		return nil, moved, fmt.Errorf("%w: its listing: %w", protocol.ErrGone, err)
	}
	list, err := listing.Parse(text)
	if err != nil {
		return nil, moved, fmt.Errorf("%w: %w", checkout.ErrRefused, err)
	}
	return list, 0, nil // a listing is no output: it does not count as moved
}

// have makes sure that blobs are in this machine's store.
func (r *run) have(ctx context.Context, blobs []protocol.Blob) (int64, error) {
	var lack []protocol.Blob
	for _, b := range blobs {
		if !r.Store.Has(b.Digest) {
			lack = append(lack, b)
		}
	}
	if len(lack) == 0 {
		return 0, nil
	}
	if r.Shared == nil || r.opt.Fetch == FetchNone {
		return 0, fmt.Errorf("%w: blob %s", protocol.ErrGone, lack[0].Digest.Short())
	}
	defer r.fetching.during(r.Now)()
	began := r.Now()
	moved, err := r.Shared.Fetch(ctx, lack)
	if err == nil && moved > 0 {
		r.lineMu.Lock()
		r.line = r.line.With(moved, r.Now().Sub(began).Seconds())
		r.lineMu.Unlock()
	}
	return moved, err
}

func blobsOf(list listing.List) []protocol.Blob {
	var out []protocol.Blob
	seen := map[digest.Digest]bool{}
	for _, row := range list {
		if d, ok := row.Blob(); ok && !seen[d] {
			seen[d] = true
			out = append(out, protocol.Blob{Digest: d, Size: row.Size})
		}
	}
	return out
}

// bring puts a listing onto the disk, and returns the bytes that had to be
// fetched for it. A blob that turns out to be damaged here is fetched again.
func (r *run) bring(ctx context.Context, t *graph.Task, list listing.List) (int64, error) {
	unlock, _, err := r.State.Lock(ctx, t.Addr())
	if err != nil {
		return 0, err
	}
	defer unlock()
	last, _ := r.lastListing(t)
	var total int64
	for try := 0; ; try++ {
		moved, err := r.have(ctx, blobsOf(list))
		total += moved
		if err != nil {
			return total, err
		}
		err = r.outputs(t).Restore(ctx, list, last)
		if errors.Is(err, store.ErrDamaged) {
			if try < 1 {
				continue
			}
			return total, fmt.Errorf("%w: %w", protocol.ErrGone, err)
		}
		return total, err
	}
}

// settleStale deals with older outputs of a task whose outputs nobody wants
// yet: they are replaced where the bytes are on this machine, else cleared.
// It tells whether the disk then holds what the listing says.
func (r *run) settleStale(ctx context.Context, t *graph.Task, list listing.List) (bool, error) {
	o := r.outputs(t)
	found, err := o.Found()
	if err != nil || len(found) == 0 {
		return len(list) == 0, err
	}
	for _, b := range blobsOf(list) {
		if !r.Store.Has(b.Digest) {
			unlock, _, err := r.State.Lock(ctx, t.Addr())
			if err != nil {
				return false, err
			}
			defer unlock()
			last, _ := r.lastListing(t)
			if err := o.Clear(ctx, last); err != nil {
				return false, err
			}
			return len(list) == 0, o.PutBack()
		}
	}
	_, err = r.bring(ctx, t, list)
	return err == nil, err
}
