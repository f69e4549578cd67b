// Package inspect looks at tasks without keeping anything: what a run would do,
// whether declarations match what tasks open, and whether tasks are
// reproducible.
package inspect

import (
	"context"
	"slices"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/schedule"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/find"
)

// Expected is the expected outcome of a task.
type Expected struct {
	engine.Result
	On       []*graph.Task    // with [decide.MayRun]: the dependencies that decide
	Compared *checkout.Record // what the reason refers to: the last result here, or see [Preview.Explain]; nil: none
	Seconds  float64          // expected duration, from the last one; 0: unknown
	Size     int64            // bytes that would be fetched
	Taken    *key.Ingredients // nil if they cannot be read; without the listings of On
	Parts    func(digest.Digest) ([]byte, error)
}

// Runs tells whether the task would or may run.
func (x *Expected) Runs() bool { return x.Outcome == decide.Ran || x.Outcome == decide.MayRun }

// mostManifests is how many directories are read to count files.
const mostManifests = 100_000

// Reads returns how many files the task reads, from the root, and the first of them.
func (x *Expected) Reads(most int) (n int, first []string) {
	if x.Taken == nil || x.Parts == nil {
		return 0, nil
	}
	// Parts that cannot be read name no files: the plan says so in other ways.
	_ = listing.Walk(x.Taken.Files, mostManifests, x.Parts, func(r listing.Row) bool {
		if n++; n <= most {
			first = append(first, r.Path)
		}
		return true
	})
	return n, first
}

// Preview is what a run would do.
type Preview struct {
	Tasks []*Expected   // in graph order
	Path  []*graph.Task // the longest chain of tasks that would or may run
	Takes float64       // expected duration of the run in seconds; what is not known counts as 0
	jobs  int           // tasks at a time
}

// Totals counts outcomes; each outcome is included.
func (p *Preview) Totals() map[string]int {
	out := map[string]int{string(decide.MayRun): 0}
	for _, o := range decide.Outcomes {
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
		if x.Outcome.IsSaving() {
			sum += x.Timing.Made
		}
	}
	return sum
}

// Plan predicts what a run with the same options would do, and changes nothing
// in the checkout, but remembers what is current as a run does. It runs probes, and fetches listings that the shared cache
// offers, because the tasks that depend on them need them. As in a run, what was
// not touched since the last one is current without a look at its ingredients.
func Plan(ctx context.Context, e *engine.Engine, opt engine.Options) (*Preview, error) {
	of := map[*graph.Task]*Expected{}
	return plan(ctx, e, opt, of, func(r *engine.Result) {
		r.Timing = engine.Timing{Made: r.Timing.Made}
		r.Digests.Log = digest.Digest{}
		x := &Expected{Result: *r, Seconds: r.Timing.Made}
		if last, ok := e.State.Last(r.Task.Addr()); ok {
			x.Compared = &last
		}
		of[r.Task] = x
	})
}

// PlanWhole is [Plan] with the ingredients of every task.
func PlanWhole(ctx context.Context, e *engine.Engine, opt engine.Options) (*Preview, error) {
	return plan(ctx, e, opt, map[*graph.Task]*Expected{}, nil)
}

func plan(
	ctx context.Context, e *engine.Engine, opt engine.Options, of map[*graph.Task]*Expected, settle func(*engine.Result),
) (*Preview, error) {
	s, err := engine.Prepare(ctx, e, opt, settle)
	if err != nil {
		return nil, err
	}
	p := &planner{session: s, of: of}
	out := &Preview{jobs: opt.Jobs}
	for _, t := range s.Tasks {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if p.of[t] == nil {
			p.of[t] = p.expect(ctx, t)
		}
		out.Tasks = append(out.Tasks, p.of[t])
	}
	s.Remember(func(t *graph.Task) *engine.Result { return &p.of[t].Result })
	p.predictDeliveries(out.Tasks)
	out.estimate()
	return out, nil
}

type planner struct {
	session *engine.Session
	of      map[*graph.Task]*Expected
}

// expect predicts the outcome of one task, given those of its dependencies.
func (p *planner) expect(ctx context.Context, t *graph.Task) *Expected {
	s := p.session
	x := &Expected{Result: engine.Result{Task: t, Picked: s.IsPicked(t)}}
	if last, ok := s.Delivery.Work.State.Last(t.Addr()); ok {
		x.Compared, x.Seconds = &last, last.Took
	}
	tk, err := s.Look.Ingredients(t, s.Look.Snapshot(), s.Outputs)
	if err != nil {
		x.Outcome, x.Message = decide.Failed, err.Error()
		return x
	}
	x.Taken, x.Parts = tk.In, tk.Reader(s.Delivery.Work.Store.Read)
	req := find.Request{Task: t, Taken: tk, Rules: s.Rules(t), Pending: p.pending(x)}
	if len(req.Pending) == 0 {
		x.Digests.Key = tk.Key
	}
	search := s.Find.Search(req)
	d, err := search.Decide(ctx)
	if err != nil {
		x.Outcome, x.Message = decide.Failed, err.Error()
		return x
	}
	p.describe(x, d, search)
	return x
}

// pending returns the dependencies whose outputs are not certain.
func (p *planner) pending(x *Expected) []string {
	var out []string
	for _, u := range x.Task.KeyDependencies() {
		if p.of[u].Runs() {
			x.On = append(x.On, u)
			out = append(out, u.Addr())
		}
	}
	return out
}

func (p *planner) describe(x *Expected, d decide.Decision, search *find.Search) {
	x.Outcome, x.Reason, x.Changes = d.Outcome, d.Reason, d.Changes
	if d.Outcome != decide.MayRun {
		x.On = nil
	}
	switch {
	case d.Outcome == decide.Ran:
		if d.Reason == key.Faster {
			x.Seconds, x.Message = d.Choice.Running, engine.DescribeChoice(d.Choice)
		}
	case d.Outcome == decide.MayRun:
	case d.Offer == nil:
		last, list, _ := search.Last()
		x.Digests.Listing, x.Digests.Ingredients, x.Timing.Made = last.Listing, last.Ingredients, last.Took
		p.session.SetOutput(x.Task, engine.NewOutput(list, last.Listing, true))
	default:
		p.describeEntry(x, d, search)
	}
}

func (p *planner) describeEntry(x *Expected, d decide.Decision, search *find.Search) {
	e, list := search.Entry(*d.Offer)
	onDisk := !d.Tidy
	if d.Place {
		x.Size = p.session.Delivery.Blobs.Missing(list)
	}
	if d.Tidy { // older outputs on the disk are replaced if the bytes are here
		found, err := p.session.Delivery.Work.Outputs(x.Task).Found()
		onDisk = len(list) == 0 || err == nil && len(found) > 0 && p.session.Delivery.Blobs.Missing(list) == 0
	}
	x.Digests.Listing, x.Digests.Ingredients = e.Listing, e.Ingredients
	x.Timing.Made, x.MadeBy, x.Seconds = e.Seconds, &e.MadeBy, 0
	p.session.SetOutput(x.Task, engine.NewOutput(list, e.Listing, onDisk))
}

// predictDeliveries predicts which outputs are put on the disk because a task
// that runs reads them.
func (p *planner) predictDeliveries(tasks []*Expected) {
	canFetch := p.session.Delivery.Blobs.From != nil
	for _, x := range slices.Backward(tasks) {
		if x.Outcome != decide.Ran {
			continue
		}
		for _, u := range x.Task.KeyDependencies() {
			up, out := p.of[u], p.session.Outputs.Get(u)
			if up.Outcome != decide.Cached || out.OnDisk || len(out.List) == 0 {
				continue
			}
			missing := p.session.Delivery.Blobs.Missing(out.List)
			up.Outcome, up.Reason = decide.Deliverable(up.Outcome, missing, canFetch)
			if up.Outcome == decide.Fetched {
				up.Size = missing
			}
		}
	}
}

// estimate finds the longest chain of what would or may run, and how long all of it is expected
// to take with so many tasks at a time.
func (p *Preview) estimate() {
	var tasks []*graph.Task
	seconds := map[*graph.Task]float64{}
	for _, x := range p.Tasks {
		if x.Runs() {
			tasks = append(tasks, x.Task)
			seconds[x.Task] = x.Seconds
		}
	}
	rest := schedule.Remaining(tasks, func(t *graph.Task) (float64, bool) { return seconds[t], seconds[t] > 0 })
	p.Path = nil
	for at := longest(tasks, rest); at != nil; at = longest(at.Dependents, rest) {
		p.Path = append(p.Path, at)
	}
	p.Takes = schedule.Simulate(tasks, max(p.jobs, 1), func(t *graph.Task) float64 { return seconds[t] }).Makespan
}

func longest(tasks []*graph.Task, rest map[*graph.Task]float64) *graph.Task {
	var best *graph.Task
	for _, t := range tasks {
		if r, ok := rest[t]; ok && (best == nil || r > rest[best]) {
			best = t
		}
	}
	return best
}

// Of returns what is expected of a task of the plan; nil if it is not in it.
func (p *Preview) Of(t *graph.Task) *Expected {
	for _, x := range p.Tasks {
		if x.Task == t {
			return x
		}
	}
	return nil
}
