package company

import (
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
)

// gather puts the outputs on the disk that a task reads, before the task may start.
func (r *Run) gather(x *item) {
	for _, u := range x.task.Dependencies {
		dep := r.byTask[u.Index]
		if dep == nil || !dep.cached {
			continue
		}
		x.missing++
		dep.toRead = append(dep.toRead, x.Task)
		if !dep.carried {
			dep.carried = true
			r.w.After(r.carrying(dep), func() { r.carry(dep) })
		}
	}
	if x.missing == 0 {
		r.queue.Add(x.task.Task)
	}
}

// fill starts what fits into the free slots.
func (r *Run) fill() {
	for r.free > 0 {
		t := r.queue.Take(func(*graph.Task) bool { return true })
		if t == nil {
			return
		}
		if x := r.byTask[t.Index]; !r.waitsFor(x) {
			r.free--
			r.execute(x)
		}
	}
}

// carrying begins to put the outputs of a task on the disk, and returns how long that takes. It
// takes no slot; transfers share the line.
func (r *Run) carrying(x *item) float64 {
	c, m := r.w.Costs, r.Machine
	seconds := c.Restore + float64(x.task.Bytes)/c.RestoreRate
	if x.remote {
		r.line = max(r.line, r.w.now) + float64(x.task.Bytes)/m.Rate
		seconds += m.Delay + r.line - r.w.now
		r.w.fetched(r, x)
	}
	return seconds
}

// packBytes is how much a client asks for at a time.
const packBytes = 32 << 20

// fetched counts a transfer.
func (w *World) fetched(r *Run, x *item) {
	for left := x.task.Bytes; left > 0; left -= packBytes {
		w.ask(Fetch, float64(min(left, packBytes))/1e6)
	}
	s := w.Demand.span(w.now)
	s.In[r.Machine.Region] += x.task.Bytes
	if of := (regional{r.Machine.Region, x.Key}); w.regions[of] {
		s.Again[r.Machine.Region] += x.task.Bytes
	} else {
		w.regions[of] = true
	}
	r.Totals.In += x.task.Bytes
}

// carry ends putting outputs on the disk.
func (r *Run) carry(x *item) {
	x.cached = false
	r.Machine.cache[x.Key], r.Machine.settled[x.Task] = true, x.Key
	if !x.carried {
		r.finish(x, x.outcome)
	} else {
		x.carried = false
		r.ByIndex[x.Task] = decide.Restored
		if x.remote {
			r.ByIndex[x.Task] = decide.Delivered(decide.Cached, x.task.Bytes)
		}
		for _, n := range x.toRead {
			reader := r.byTask[n]
			if reader.missing--; reader.missing == 0 {
				r.queue.Add(reader.task.Task)
			}
		}
		x.toRead = nil
	}
	r.fill()
}

// execute runs a task.
func (r *Run) execute(x *item) {
	w := r.w
	r.announce(x)
	w.After(x.Seconds*r.Machine.Pace+w.Costs.Task, func() {
		r.free++
		r.Totals.Work += x.Seconds * r.Machine.Pace
		r.Machine.ran[x.Task] = true
		if x.Fails {
			x.bad = true
			w.conclude(x.announced, false)
			r.finish(x, decide.Failed)
		} else {
			r.share(x)
			r.finish(x, decide.Ran)
		}
		r.fill()
	})
}

// share keeps a result, and sends it in the background.
func (r *Run) share(x *item) {
	w, m := r.w, r.Machine
	m.cache[x.Key] = true
	if !x.task.Shareable || w.NoShared {
		return
	}
	w.After(2*m.Delay+float64(x.task.Bytes)/m.Rate, func() {
		w.ask(Share, float64(x.task.Bytes)/1e6)
		w.Demand.span(w.now).Out[m.Region] += x.task.Bytes
		r.counted.Totals.Out += x.task.Bytes
		w.regions[regional{m.Region, x.Key}] = true
		w.took[x.Task] = x.Seconds * m.Pace
		w.shared.add(x.Key, w.now, m.Shelf, x.task.Bytes)
		w.conclude(x.announced, true)
	})
}

// finish ends a task, and decides about those that waited for it.
func (r *Run) finish(x *item, o decide.Outcome) {
	x.outcome, x.ended = o, true
	r.ByIndex[x.Task] = o
	r.keep(x, o)
	r.open--
	var next []*item
	keys := 0
	for _, u := range x.task.Dependents {
		y := r.byTask[u.Index]
		if y == nil {
			continue
		}
		if y.waits--; y.waits > 0 {
			continue
		}
		next = append(next, y)
		if !y.asked && r.seeks(y) {
			keys++
		}
	}
	if len(next) > 0 {
		r.lookUp(keys, func() {
			for _, y := range next {
				r.ready(y)
			}
			r.fill()
		})
	}
	if r.open == 0 {
		r.end()
	}
}

// keep notes what the machine has now.
func (r *Run) keep(x *item, o decide.Outcome) {
	m := r.Machine
	if o.IsGood() && !x.cached {
		m.settled[x.Task] = x.Key
	}
	if o.IsSaving() {
		r.Totals.Saved += x.Seconds * m.Pace
		m.cache[x.Key] = m.cache[x.Key] || !x.cached
	}
}

// end ends the run, and counts it where it began.
func (r *Run) end() {
	t := &r.Totals
	t.Runs, t.Seconds = 1, r.w.now-r.Began
	for _, o := range r.ByIndex {
		t.count(string(o), 1)
	}
	r.w.ask(Record, float64(len(r.items)))
	r.counted.Totals.add(*t)
	if r.Done != nil {
		r.Done(r)
	}
}
