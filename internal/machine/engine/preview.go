package engine

import (
	"context"
	"slices"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/schedule"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/protocol"
)

// Depends is the outcome of a task in a plan that turns on how an earlier one
// comes out.
const MayRun Outcome = "may-run"

// Expected is how a task would come out.
type Expected struct {
	Result
	On       []*graph.Task    // with [Depends]: what it turns on
	Compared *checkout.Record // the last time here, with which it is compared; nil: never
	Seconds  float64          // that it would take, going by the last time; 0: not known
	Size     int64            // bytes that would be fetched
	Taken    *key.Ingredients // nil where they cannot be read; without the listings of On
	Parts    func(digest.Digest) ([]byte, error)
}

// WouldRun tells whether the task runs for certain.
func (x *Expected) WouldRun() bool { return x.Outcome == Ran }

// Preview is what a run would do.
type Preview struct {
	Tasks []*Expected   // in the order of the graph
	Path  []*graph.Task // of those that would or may run, the chain that takes longest
	Takes float64       // seconds that it takes
}

// Totals counts outcomes: the nine, and how many depend.
func (p *Preview) Totals() map[string]int {
	out := map[string]int{string(MayRun): 0}
	for _, o := range Outcomes {
		out[string(o)] = 0
	}
	for _, x := range p.Tasks {
		out[string(x.Outcome)]++
	}
	return out
}

// Saved returns the seconds of work that would not have to be done.
func (p *Preview) Saved() float64 {
	sum := 0.0
	for _, x := range p.Tasks {
		switch x.Outcome {
		case Cached, Restored, Fetched:
			sum += x.Made
		}
	}
	return sum
}

// Plan says what [Engine.Run] would do with the same options, and changes
// nothing in the checkout. Probes are asked; listings that the shared cache
// offers are fetched, since what comes after them turns on them.
func (e *Engine) Plan(ctx context.Context, opt Options) (*Preview, error) {
	r := e.newRun(opt)
	if err := r.prepare(ctx); err != nil {
		return nil, err
	}
	p := &Preview{}
	of := map[*graph.Task]*Expected{}
	for _, n := range r.nodes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		x := r.expect(ctx, n, of)
		of[n.task] = x
		p.Tasks = append(p.Tasks, x)
	}
	r.expectMoves(p.Tasks, of)
	p.longest(of)
	return p, nil
}

// expect says how one task would come out, given those before it.
func (r *run) expect(ctx context.Context, n *node, of map[*graph.Task]*Expected) *Expected {
	t := n.task
	x := &Expected{Result: Result{Task: t, Picked: n.picked}}
	last, seen := r.State.Last(t.Addr())
	if seen {
		x.Compared, x.Seconds = &last, last.Took
	}
	for _, u := range t.KeyDependencies() {
		if o := of[u].Outcome; o == Ran || o == MayRun {
			x.On = append(x.On, u)
		}
	}
	tk, err := r.ingredients(t, r.snapshot(), r.listingOf)
	if err != nil {
		x.Outcome, x.Message = Failed, err.Error()
		return x
	}
	x.Parts, x.Taken = tk.read(r.Store), tk.in
	if len(x.On) == 0 {
		x.Key = tk.key
	}
	if reason, changes := r.always(t); reason != "" {
		x.Outcome, x.Reason, x.Changes, x.On = Ran, reason, changes, nil
		return x
	}
	if len(x.On) > 0 {
		x.Outcome = MayRun
		x.Reason, x.Changes = r.ownReason(ctx, tk, last, seen, x.On)
		return x
	}
	r.expectReuse(ctx, n, tk, x)
	return x
}

// ownReason returns why a task would run even if all that it depends on came
// out the same; nothing where it would not.
func (r *run) ownReason(ctx context.Context, tk taken, last checkout.Record, seen bool, on []*graph.Task) (key.Reason, []key.Change) {
	if !seen {
		return key.New, nil
	}
	read := r.reader(ctx, tk)
	text, err := read(last.Ingredients)
	if err != nil {
		return "", nil
	}
	if before, err := key.Decode(text); err == nil {
		var own []key.Change
		for _, c := range key.Compare(before, tk.in, read) {
			if c.Reason != key.Upstream || !slices.ContainsFunc(on, func(u *graph.Task) bool { return u.Addr() == c.What }) {
				own = append(own, c)
			}
		}
		if reason, of := key.First(own); reason != "" {
			return reason, of
		}
	}
	return "", nil
}

// expectReuse says how a task comes out whose key is certain.
func (r *run) expectReuse(ctx context.Context, n *node, tk taken, x *Expected) {
	t := n.task
	last, seen := r.State.Last(t.Addr())
	if seen && last.Key == tk.key && !last.Failed {
		if list, ok := r.readListing(last.Listing); ok {
			if right, err := r.outputs(t).Right(ctx, list); err == nil && right {
				x.Outcome, x.Listing, x.Made, x.Ingredients = Current, last.Listing, last.Took, last.Ingredients
				n.place.set, n.place.list, n.place.digest, n.place.onDisk = true, list, last.Listing, true
				return
			}
		}
	}
	gone := false
	for _, c := range r.candidates(ctx, n, tk) {
		if c.how == Fetched {
			if w := r.weigh(ctx, n, c.Entry); w.Run {
				x.Outcome, x.Reason, x.Message, x.Seconds = Ran, key.Faster, w.sentence(), w.Running
				return
			}
		}
		ok, lost := r.expectEntry(ctx, n, c, x)
		if ok {
			return
		}
		gone = gone || lost
	}
	x.Outcome = Ran
	x.Reason, x.Changes = r.reason(ctx, tk, last, seen)
	if gone && (x.Reason == key.New || x.Reason == key.Outputs) {
		x.Reason, x.Changes = key.Evicted, nil
	}
}

type candidate struct {
	protocol.Entry
	how Outcome
}

// candidates returns the entries that would be tried, in their order.
func (r *run) candidates(ctx context.Context, n *node, tk taken) []candidate {
	var out []candidate
	for _, o := range r.origins() {
		if e, ok := r.Store.Entry(tk.key, o); ok {
			out = append(out, candidate{e, Restored})
		}
	}
	if r.Shared != nil && shareable(n.task) && r.opt.Fetch != FetchNone {
		for _, e := range r.ask.entries(ctx, n.task, tk.key) {
			out = append(out, candidate{e, Fetched})
		}
	}
	return out
}

// expectEntry says how a task comes out that an entry settles. Lost tells that
// its blobs are nowhere to be had.
func (r *run) expectEntry(ctx context.Context, n *node, c candidate, x *Expected) (ok, lost bool) {
	list, _, err := r.entryListing(ctx, c.Entry)
	if err != nil {
		return false, true
	}
	o := r.outputs(n.task)
	right, err := o.Right(ctx, list)
	if err != nil || o.Check(list) != nil {
		return false, false
	}
	lack := r.lacking(list)
	x.Outcome = Cached
	switch {
	case right && len(list) > 0 && c.how == Restored:
		x.Outcome = Current
	case right:
	case n.picked || r.opt.Fetch == FetchAll:
		if lack > 0 && (r.Shared == nil || r.opt.Fetch == FetchNone) {
			return false, true
		}
		x.Outcome, x.Size = c.how, lack
		if lack > 0 {
			x.Outcome = Fetched
		}
		right = true
	default:
		// Older outputs on the disk are replaced where the bytes are here.
		found, err := o.Found()
		right = err == nil && len(found) > 0 && lack == 0
	}
	x.Listing, x.Made, x.MadeBy, x.Seconds, x.Ingredients = c.Listing, c.Seconds, &c.MadeBy, 0, c.Ingredients
	n.place.set, n.place.list, n.place.digest, n.place.onDisk = true, list, c.Listing, right
	return true, false
}

// lacking returns the bytes of a listing that are not on this machine.
func (r *run) lacking(list listing.List) int64 {
	var sum int64
	for _, b := range blobsOf(list) {
		if !r.Store.Has(b.Digest) {
			sum += max(b.Size, 1)
		}
	}
	return sum
}

// expectMoves says which outputs have to come onto the disk because a task
// that runs reads them.
func (r *run) expectMoves(tasks []*Expected, of map[*graph.Task]*Expected) {
	for _, x := range slices.Backward(tasks) {
		if x.Outcome != Ran {
			continue
		}
		for _, u := range x.Task.KeyDependencies() {
			n, up := r.of[u], of[u]
			if up.Outcome != Cached || n.place.onDisk || len(n.place.list) == 0 {
				continue
			}
			n.place.onDisk = true
			lack := r.lacking(n.place.list)
			switch {
			case lack == 0:
				up.Outcome = Restored
			case r.Shared == nil || r.opt.Fetch == FetchNone:
				up.Outcome, up.Reason = Ran, key.Evicted
			default:
				up.Outcome, up.Size = Fetched, lack
			}
		}
	}
}

// longest finds the chain of tasks that would or may run which takes longest.
func (p *Preview) longest(of map[*graph.Task]*Expected) {
	var tasks []*graph.Task
	for _, x := range p.Tasks {
		if x.Outcome == Ran || x.Outcome == MayRun {
			tasks = append(tasks, x.Task)
		}
	}
	rest := schedule.Remaining(tasks, func(t *graph.Task) (float64, bool) { return of[t].Seconds, of[t].Seconds > 0 })
	var at *graph.Task
	for _, t := range tasks {
		if at == nil || rest[t] > rest[at] {
			at = t
		}
	}
	for at != nil {
		p.Path = append(p.Path, at)
		p.Takes += of[at].Seconds
		var next *graph.Task
		for _, u := range at.Dependents {
			if r, ok := rest[u]; ok && (next == nil || r > rest[next]) {
				next = u
			}
		}
		at = next
	}
}
