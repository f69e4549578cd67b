package main

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/critical"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/key"
)

// world is everything together.
type world struct {
	m     *model
	main  *workspace
	cache *cache
	rnd   *rand.Rand
	out   func(*run) error
}

// step is a task of a run while it is computed.
type step struct {
	record
	found  *entry // a result to reuse; nil: it is executed
	shared bool   // and it is in the shared cache only
	needed bool   // its outputs are
	end    float64
	bad    bool
}

// play computes a run of some tasks in the working copy of an actor.
func (w *world) play(r *run, targets []int) error {
	steps, order := w.decide(r, targets)
	free := make([]float64, r.jobs)
	for _, i := range order {
		w.carryOut(r, steps, i, free)
	}
	r.finish(w.m, steps, order)
	return w.out(r)
}

// decide says for each task, in order, whether a result is reused.
func (w *world) decide(r *run, targets []int) (steps map[int]*step, order []int) {
	steps = map[int]*step{}
	for _, t := range targets {
		for _, i := range w.m.tasks[t].upstream {
			if steps[i] == nil {
				steps[i] = &step{}
				order = append(order, i)
			}
		}
		steps[t].picked, steps[t].needed = true, true
	}
	slices.Sort(order)
	for _, i := range order {
		w.look(r, i, steps[i])
	}
	for _, i := range order {
		if s := steps[i]; s.outcome == "" && s.found == nil {
			for _, u := range w.m.tasks[i].after {
				steps[u].needed = true
			}
		}
	}
	return steps, order
}

// look looks for a result of a task.
func (w *world) look(r *run, i int, s *step) {
	a, k := r.by, r.by.work.keys[i]
	s.task, s.key = i, k
	switch last := a.work.settled[i]; {
	case r.noReuse:
	case !a.fresh && last.key == k:
		s.outcome, s.listing = decide.Current, last.listing
	case !a.fresh && a.local[k] != nil:
		s.found = a.local[k]
	case w.m.tasks[i].shareable:
		s.found = w.cache.find(k, r.began, r.shelf, trusted)
		s.shared = s.found != nil
	}
}

const trusted = "trusted"

// carryOut computes what happens to one task, after those it depends on.
func (w *world) carryOut(r *run, steps map[int]*step, i int, free []float64) {
	s, t := steps[i], &w.m.tasks[i]
	for _, u := range t.after {
		s.at = max(s.at, steps[u].end)
		s.bad = s.bad || steps[u].bad
	}
	switch {
	case s.bad:
		s.outcome = decide.Blocked
	case s.outcome == decide.Current:
		s.seconds = 0.0004
	case s.found != nil:
		w.reuse(r, s, t)
	default:
		w.execute(r, s, t)
	}
	if s.outcome.IsWork() {
		slot := 0
		for n := range free {
			if free[n] < free[slot] {
				slot = n
			}
		}
		s.slot, s.at = slot, max(s.at, free[slot])
		free[slot] = s.at + s.seconds
	}
	s.end = s.at + s.seconds
	if s.outcome.IsGood() {
		r.by.work.settle(i, r.id, false)
	}
}

func (w *world) reuse(r *run, s *step, t *task) {
	s.outcome, s.made, s.listing, s.seconds = decide.Cached, s.found, s.found.listing, 0.002
	if t.outputs && s.needed {
		s.outcome, s.seconds = decide.Restored, 0.01+float64(t.bytes)/400e6
		if s.shared {
			s.outcome, s.in = decide.Fetched, t.bytes
			s.seconds = r.place.delay + float64(t.bytes)/r.place.speed*w.around(0.2)
			s.fetchSeconds = s.seconds
		}
	}
	s.saved = s.found.seconds - s.seconds
	if !r.by.fresh {
		r.by.local[s.key] = s.found
	}
}

// around returns a factor around 1.
func (w *world) around(spread float64) float64 { return math.Exp(w.rnd.NormFloat64() * spread) }

func (w *world) execute(r *run, s *step, t *task) {
	s.outcome, s.attempt = decide.Ran, 1
	s.runSeconds = t.seconds * r.place.pace * w.around(0.15)
	s.seconds = s.runSeconds + 0.02
	s.listing = r.by.work.listings[s.task]
	if w.m.is(s.task, randomTask) {
		s.listing = w.rnd.Uint64()
	}
	w.explain(r, s, t)
	if w.fails(s, t, r.by.work.content) {
		s.outcome, s.bad, s.listing, s.same = decide.Failed, true, 0, nil
		r.by.work.settle(s.task, r.id, true)
	}
	w.test(r, s, t)
	if s.outcome == decide.Failed {
		return
	}
	e := &entry{
		task: s.task, key: s.key, listing: s.listing, shelf: r.shelf, seconds: s.runSeconds,
		maker: maker{r.by.name, r.by.host, r.place.name, r.id, r.by.token},
		at:    r.began.Add(time.Duration(s.seconds * float64(time.Second))), used: r.began,
	}
	if !r.by.fresh {
		r.by.local[s.key] = e
	}
	if t.shareable {
		w.cache.add(e)
		s.out = t.bytes
	}
}

// explain says why a task is executed.
func (w *world) explain(r *run, s *step, t *task) {
	last := r.by.work.settled[s.task]
	s.reason = key.New
	if last.run == "" {
		return
	}
	s.compared = last.run
	if same := last.listing == s.listing; t.outputs {
		s.same = &same
	}
	s.changed = r.by.work.changes(s.task)
	switch {
	case r.noReuse:
		s.reason, s.changed = key.NoReuse, nil
	case last.failed && last.key == s.key:
		s.reason, s.changed = key.FailedBefore, nil
	case len(s.changed) > 0:
		s.reason = key.Files
		s.detail = []string{s.changed[0] + " changed"}
	case last.key == s.key || len(t.after) == 0:
		s.reason = key.Evicted
	default:
		s.reason = key.Upstream
		s.detail = []string{w.m.tasks[t.after[0]].addr + " changed"}
	}
}

// fails tells whether an execution fails: tests of some files always do.
func (w *world) fails(s *step, t *task, content [][classes]uint64) bool {
	if w.m.is(s.task, flakyTask) {
		return w.rnd.Float64() < 0.15
	}
	for _, c := range t.reads {
		if x := content[t.owner][c]; !t.outputs && x != 0 && x%60 == 0 {
			return true
		}
	}
	return false
}

// The tests of a task that writes a report.
var testNames = []string{
	"TestEmptyDay", "TestFirstSailing", "TestFog", "TestFullDeck", "TestLastSailing", "TestRoundTrip", "TestSpringTide", "TestTwoBerths",
}

const flakyTest = "TestSpringTide"

func (w *world) test(r *run, s *step, t *task) {
	if !t.reports {
		return
	}
	wrong := -1
	if s.outcome == decide.Failed {
		wrong = int(mix(s.key, 11) % uint64(len(testNames)))
		if w.m.is(s.task, flakyTask) {
			wrong = slices.Index(testNames, flakyTest)
		}
		s.failed = 1
	}
	s.tests = len(testNames)
	for n, name := range testNames {
		c := testCase{s.task, n, name, "passed", s.runSeconds / float64(len(testNames)), ""}
		if n == wrong {
			c.result, c.message = "failed", "expected 4 sailings, got 3"
		}
		r.cases = append(r.cases, c)
	}
}

// finish adds up a run, and finds its critical path.
func (r *run) finish(m *model, steps map[int]*step, order []int) {
	r.ok, r.totals = true, map[decide.Outcome]int{}
	spans := map[string]critical.Span{}
	for _, i := range order {
		s := steps[i]
		r.seconds = max(r.seconds, s.end)
		r.totals[s.outcome]++
		r.ok = r.ok && !s.bad
		if s.saved != 0 {
			r.saved += s.saved + s.seconds
		}
		r.fetching, r.in, r.out = r.fetching+s.fetchSeconds, r.in+s.in, r.out+s.out
		span := critical.Span{At: s.at, Seconds: s.seconds, Worked: s.outcome.IsWork()}
		for _, u := range m.tasks[i].after {
			span.Dependencies = append(span.Dependencies, m.tasks[u].addr)
		}
		spans[m.tasks[i].addr] = span
	}
	r.seconds += 0.2
	path := critical.Path(spans)
	for _, name := range path {
		r.critical += spans[name].Seconds
	}
	for _, name := range path {
		steps[m.index[name]].critical = spans[name].Seconds / max(r.critical, r.seconds)
	}
	for _, i := range order {
		r.records = append(r.records, steps[i].record)
	}
}
