// Package company is a model of a company that works with Gray Loft, in virtual time. People
// and runners start runs of tasks whose durations and sizes are known; what is reused, in which
// order tasks start, who waits for whom and what the shared cache keeps is decided by the
// product's own rules. The model counts what is asked of the service. It knows nothing of
// processes, files or a database: what a request costs is told to it.
package company

import (
	"container/heap"

	"grayloft.example/grayloft/internal/core/graph"
)

// Key stands for the key of a task.
type Key uint64

// Task is a task of the repository, as the model knows it. Its place in the graph is that of
// the embedded task, of which only Index, Dependencies, Dependents and Slots count.
type Task struct {
	*graph.Task
	Seconds   float64 // that it takes on a machine of usual pace
	Bytes     int64   // of its outputs; 0: it has none
	Shareable bool
}

// Machine is where runs take place: a person's, or a runner.
type Machine struct {
	Region int
	Slots  int
	Pace   float64 // how long tasks take on it, against the usual
	Rate   float64 // of its line, in bytes a second
	Delay  float64 // until an answer of the service begins, in seconds
	Clean  bool    // each run begins in a new checkout
	Empty  bool    // and with an empty cache
	Shelf  string  // that it writes to
	Reads  []string

	cache   map[Key]bool // the results it knows, and whether it has their outputs
	settled map[int]Key  // the last good result of tasks in its checkout
	ran     map[int]bool
}

// Config is what differs between two simulations of the same company.
type Config struct {
	Quota    int64   // bytes that the shared cache may hold; 0: no limit
	Keep     float64 // seconds after which an entry that nobody used is deleted; 0: never
	NoClaims bool
	NoShared bool // nobody has a shared cache
	Costs    Overheads
}

// Overheads are what the client takes beside running tasks, in seconds.
type Overheads struct {
	Run         float64 // once per run
	Task        float64 // around a task that runs
	Restore     float64 // around outputs that are put into place
	RestoreRate float64 // bytes a second
	Reuse       float64 // a task whose result is reused in place
}

// World is a company in virtual time.
type World struct {
	Config
	Tasks  []*Task // each after its dependencies
	Demand *Demand

	now     float64
	events  events
	serial  int
	shared  *shelves
	claims  map[claimOf]*claim
	took    map[int]float64   // how long the newest result of a task took
	regions map[regional]bool // what was transferred to a region before
}

type regional struct {
	region int
	key    Key
}

// New returns a company at time 0, whose caches are empty.
func New(tasks []*Task, c Config, d *Demand) *World {
	return &World{
		Config: c, Tasks: tasks, Demand: d, shared: newShelves(c), claims: map[claimOf]*claim{}, took: map[int]float64{},
		regions: map[regional]bool{},
	}
}

// Now returns the time, in seconds.
func (w *World) Now() float64 { return w.now }

// Held returns the bytes that the entries of the shared cache name.
func (w *World) Held() int64 { return w.shared.held }

// At does something at a time, in the order of times and of calls.
func (w *World) At(at float64, do func()) {
	w.serial++
	heap.Push(&w.events, event{max(at, w.now), w.serial, do})
}

// After does something so many seconds later.
func (w *World) After(seconds float64, do func()) { w.At(w.now+seconds, do) }

// Play lets time pass until then, or until nothing happens any more.
func (w *World) Play(until float64) {
	for len(w.events) > 0 && w.events[0].at <= until {
		e := heap.Pop(&w.events).(event)
		w.now = e.at
		e.do()
	}
	w.now = max(w.now, until)
}

// event is something that happens.
type event struct {
	at     float64
	serial int
	do     func()
}

type events []event

func (e events) Len() int { return len(e) }
func (e events) Less(i, j int) bool {
	if e[i].at != e[j].at {
		return e[i].at < e[j].at
	}
	return e[i].serial < e[j].serial
}
func (e events) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)   { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := len(*e) - 1
	x := (*e)[last]
	(*e)[last] = event{}
	*e = (*e)[:last]
	return x
}
