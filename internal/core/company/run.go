package company

import (
	"encoding/binary"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/schedule"
)

// Item is a task of a run's plan.
type Item struct {
	Task    int // its index
	Key     Key
	Picked  bool
	Seconds float64 // that it takes if it runs
	Fails   bool    // if it runs
}

// Run is a run of some tasks: a plan that contains the dependencies of each, in order.
type Run struct {
	Machine *Machine
	Slots   int // 0: those of the machine
	Items   []Item
	NoReuse bool
	Done    func(r *Run) // when it has ended; may be nil

	Began   float64
	Totals  Totals
	ByIndex map[int]decide.Outcome // of each task, when it has ended

	w       *World
	items   []*item
	byTask  map[int]*item
	queue   *schedule.Queue
	free    int
	line    float64 // when the line to the service is free
	open    int
	counted *Span
}

// item is how a task of a run stands.
type item struct {
	Item
	task      *Task
	waits     int // for so many dependencies
	outcome   decide.Outcome
	cached    bool // its outputs, if any, are not on the disk
	remote    bool // and not on this machine
	ended     bool
	bad       bool
	carried   bool  // its outputs are being put on the disk
	toRead    []int // tasks that wait for its outputs
	missing   int   // outputs that it waits for
	asked     bool
	sought    bool
	announced *claim
}

// Start begins a run.
func (w *World) Start(r *Run) {
	m := r.Machine
	if m.Clean || m.settled == nil {
		m.settled = map[int]Key{}
	}
	if m.Empty || m.cache == nil {
		m.cache = map[Key]bool{}
	}
	if m.ran == nil {
		m.ran = map[int]bool{}
	}
	r.w, r.Began, r.byTask, r.open, r.counted = w, w.now, map[int]*item{}, len(r.Items), w.Demand.span(w.now)
	r.free = max(r.Slots, m.Slots)
	r.ByIndex = make(map[int]decide.Outcome, len(r.Items))
	order := make([]*graph.Task, len(r.Items))
	for n, it := range r.Items {
		x := &item{Item: it, task: w.Tasks[it.Task]}
		for _, u := range x.task.Dependencies {
			if r.byTask[u.Index] != nil {
				x.waits++
			}
		}
		order[n] = x.task.Task
		r.items = append(r.items, x)
		r.byTask[it.Task] = x
	}
	r.queue = schedule.NewQueue(schedule.Remaining(order, func(t *graph.Task) (float64, bool) { return w.Tasks[t.Index].Seconds, true }))
	w.After(w.Costs.Run, r.begin)
}

// begin looks up, in one request, every task whose key is certain.
func (r *Run) begin() {
	certain := map[int]bool{}
	keys := 0
	for _, x := range r.items {
		ok := true
		for _, u := range x.task.Dependencies {
			if r.byTask[u.Index] != nil && !certain[u.Index] {
				ok = false
			}
		}
		if !ok {
			continue
		}
		if r.seeks(x) {
			keys++
		}
		x.asked = true
		certain[x.Task] = r.has(x)
	}
	r.lookUp(keys, func() {
		for _, x := range r.items {
			if x.waits == 0 && !x.ended {
				r.ready(x)
			}
		}
		if r.open == 0 {
			r.end()
		}
		r.fill()
	})
}

// lookUp counts a request, and goes on when it is answered.
func (r *Run) lookUp(keys int, then func()) {
	if keys == 0 {
		then()
		return
	}
	r.w.ask(Lookup, float64(keys))
	r.w.After(r.Machine.Delay, then)
}

// seeks tells whether the service is asked for a result of a task.
func (r *Run) seeks(x *item) bool {
	_, known := r.Machine.cache[x.Key]
	return !r.w.NoShared && !r.NoReuse && x.task.Shareable && r.Machine.settled[x.Task] != x.Key && !known
}

// has tells whether there is a result of a task.
func (r *Run) has(x *item) bool {
	d := r.decide(x)
	return d.Outcome != decide.Ran
}

// decide asks the product's rules what happens to a task.
func (r *Run) decide(x *item) decide.Decision {
	m := r.Machine
	f := decide.Facts{
		Rules:   decide.Rules{NoReuse: r.NoReuse, Wanted: x.Picked, CanFetch: true, MayCompare: m.ran[x.Task]},
		Key:     digestOf(x.Key),
		Disk:    decide.Yes,
		Local:   decide.Offers{Asked: true},
		Shared:  decide.Offers{Asked: true},
		Changes: decide.Changes{Asked: true},
		Line:    decide.Line{BytesPerSecond: m.Rate, Delay: m.Delay, Samples: 10},
	}
	if last := m.settled[x.Task]; last != 0 {
		f.Last = &decide.Last{Key: digestOf(last), Seconds: x.task.Seconds * m.Pace}
	}
	empty := x.task.Bytes == 0
	if here, known := m.cache[x.Key]; known {
		o := decide.Offer{State: decide.Usable, Empty: empty, OnDisk: empty}
		if !here {
			o.Missing = x.task.Bytes
		}
		f.Local.List = []decide.Offer{o}
	} else if r.seeks(x) && r.w.shared.find(x.Key, r.w.now, m.Reads) != nil {
		f.Shared.List = []decide.Offer{{State: decide.Usable, Empty: empty, OnDisk: empty, Missing: x.task.Bytes}}
	}
	return decide.Next(&f).Decision
}

func digestOf(k Key) (d digest.Digest) {
	binary.BigEndian.PutUint64(d[:], uint64(k))
	return d
}

// ready decides about a task whose dependencies have ended.
func (r *Run) ready(x *item) {
	for _, u := range x.task.Dependencies {
		if dep := r.byTask[u.Index]; dep != nil && dep.bad {
			x.bad = true
		}
	}
	if x.bad {
		r.finish(x, decide.Blocked)
		return
	}
	again := x.sought // it waited for another machine
	x.sought = r.seeks(x)
	d := r.decide(x)
	if d.Offer != nil {
		x.remote = d.Offer.Shared || !r.Machine.cache[x.Key]
	}
	if x.sought && !again {
		r.Totals.Sought++
		if x.remote {
			r.Totals.Supplied++
		}
	}
	x.outcome = d.Outcome
	switch d.Outcome {
	case decide.Current, decide.Cached:
		x.cached = d.Outcome == decide.Cached && x.task.Bytes > 0
		r.w.After(r.w.Costs.Reuse, func() { r.finish(x, d.Outcome) })
	case decide.Restored, decide.Fetched:
		r.w.After(r.carrying(x), func() { r.carry(x) })
	default:
		r.gather(x)
	}
}
