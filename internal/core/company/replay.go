package company

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Recording is what a service recorded in some days: what the runs were asked to do, which
// the simulation gets, and what came of it, which it is compared with.
type Recording struct {
	Repository string         `json:"repository"`
	Tasks      []RecordedTask `json:"tasks"` // each after its dependencies
	Machines   []Place        `json:"machines"`
	Runs       []RecordedRun  `json:"runs"`
}

// RecordedTask is a task of the repository.
type RecordedTask struct {
	Name      string  `json:"name"`
	After     []int   `json:"after,omitempty"`
	Seconds   float64 `json:"seconds"` // the median of its executions
	Bytes     int64   `json:"bytes,omitempty"`
	Shareable bool    `json:"shareable,omitempty"`
}

// Place is a machine that made runs.
type Place struct {
	Rate  float64  `json:"rate"` // bytes a second, of its transfers
	Shelf string   `json:"shelf"`
	Reads []string `json:"reads"`
	Clean bool     `json:"clean,omitempty"` // nothing was ever current there
	Empty bool     `json:"empty,omitempty"` // nor restored from its own cache
	Pace  float64  `json:"pace"`
}

// RecordedRun is a run.
type RecordedRun struct {
	At      float64        `json:"at"` // seconds since the beginning of the first day
	Machine int            `json:"machine"`
	Slots   int            `json:"slots"`
	NoReuse bool           `json:"no_reuse,omitempty"`
	Items   []RecordedItem `json:"items"`
	Seconds float64        `json:"seconds"`
}

// RecordedItem is a task of a run, as [task, key, flags, milliseconds]: the key is a number
// within the recording, the time that of the execution, 0 without one.
type RecordedItem [4]int

// The flags of an item; the rest of them is the index of its outcome in [decide.Outcomes].
const (
	flagPicked = 1
	flagBits   = 1
)

// NewRecordedItem returns an item.
func NewRecordedItem(task, key int, picked bool, o decide.Outcome, milliseconds int) RecordedItem {
	flags := slices.Index(decide.Outcomes, o) << flagBits
	if picked {
		flags |= flagPicked
	}
	return RecordedItem{task, key, flags, milliseconds}
}

func (i RecordedItem) picked() bool            { return i[2]&flagPicked != 0 }
func (i RecordedItem) outcome() decide.Outcome { return decide.Outcomes[i[2]>>flagBits] }

// ReadRecording reads a recording as JSON, and refuses one that contradicts itself.
func ReadRecording(from io.Reader) (*Recording, error) {
	var r Recording
	if err := json.NewDecoder(from).Decode(&r); err != nil {
		return nil, err
	}
	for n, t := range r.Tasks {
		for _, u := range t.After {
			if u < 0 || u >= n {
				return nil, fmt.Errorf("task %d is not after its dependency %d", n, u)
			}
		}
	}
	for n, run := range r.Runs {
		if run.Machine < 0 || run.Machine >= len(r.Machines) {
			return nil, fmt.Errorf("run %d: there is no machine %d", n, run.Machine)
		}
		for _, i := range run.Items {
			if i[0] < 0 || i[0] >= len(r.Tasks) || i[2] < 0 || i[2]>>flagBits >= len(decide.Outcomes) {
				return nil, fmt.Errorf("run %d: item %v names nothing", n, i)
			}
		}
	}
	return &r, nil
}

// Repository returns the tasks as the model has them.
func (r *Recording) repository() []*Task {
	tasks := make([]*Task, len(r.Tasks))
	for n, t := range r.Tasks {
		tasks[n] = newTask(n, t.After, tasks)
		tasks[n].Seconds, tasks[n].Bytes, tasks[n].Shareable = t.Seconds, t.Bytes, t.Shareable
	}
	return tasks
}

func newTask(index int, after []int, before []*Task) *Task {
	t := &Task{Task: &graph.Task{Task: &decl.Task{Slots: 1}, Index: index}}
	for _, u := range after {
		t.Dependencies = append(t.Dependencies, before[u].Task)
		before[u].Dependents = append(before[u].Dependents, t.Task)
	}
	return t
}

// Compared are the totals of the runs that began in a stretch of time, as they were recorded
// and as they were simulated.
type Compared struct{ Recorded, Simulated Totals }

// Replay plays a recording, and compares what began from a time on.
func (r *Recording) Replay(from float64, c Config) Compared {
	w := New(r.repository(), c, &Demand{Each: 3600, Regions: 1})
	machines := make([]*Machine, len(r.Machines))
	for n, p := range r.Machines {
		machines[n] = &Machine{
			Pace: p.Pace, Rate: p.Rate, Delay: 0.03, Clean: p.Clean, Empty: p.Empty, Shelf: p.Shelf, Reads: p.Reads,
		}
	}
	var out Compared
	for _, run := range r.Runs {
		w.At(run.At, func() {
			w.Start(&Run{Machine: machines[run.Machine], Slots: run.Slots, NoReuse: run.NoReuse, Items: r.items(run), Done: func(x *Run) {
				if run.At >= from {
					out.Simulated.add(x.Totals)
				}
			}})
		})
		if run.At >= from {
			out.Recorded.add(r.totals(run))
		}
	}
	w.Play(1e12)
	return out
}

func (r *Recording) items(run RecordedRun) (items []Item) {
	pace := r.Machines[run.Machine].Pace
	for _, i := range run.Items {
		seconds := float64(i[3]) / 1000 / pace
		if i[3] == 0 { // it was not executed then
			seconds = r.Tasks[i[0]].Seconds
		}
		items = append(items, Item{
			Task: i[0], Key: Key(i[1]), Picked: i.picked(), Seconds: seconds, Fails: i.outcome() == decide.Failed,
		})
	}
	slices.SortFunc(items, func(a, b Item) int { return a.Task - b.Task })
	return items
}

// totals are those of a run as it was recorded.
func (r *Recording) totals(run RecordedRun) Totals {
	t := Totals{Runs: 1, Seconds: run.Seconds}
	for _, i := range run.Items {
		o := i.outcome()
		t.count(string(o), 1)
		switch {
		case o == decide.Fetched:
			t.In += r.Tasks[i[0]].Bytes
		case o == decide.Ran || o == decide.Failed:
			t.Work += float64(i[3]) / 1000
		}
	}
	return t
}
