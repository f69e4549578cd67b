package schedule

import (
	"container/heap"

	"grayloft.example/grayloft/internal/core/graph"
)

// Simulated is the expected course of a run with tasks of known durations.
type Simulated struct {
	Makespan float64 // seconds from the first start to the last end
	Bound    float64 // lower bound of any schedule: the longest path, or all work divided by all slots
}

// Simulate runs the tasks through the queue like the engine, in virtual time.
// Tasks must be in graph order.
func Simulate(tasks []*graph.Task, slots int, seconds func(*graph.Task) float64) Simulated {
	known := func(t *graph.Task) (float64, bool) { return seconds(t), true }
	remaining := Remaining(tasks, known)
	queue := NewQueue(remaining)
	in, blocked := map[*graph.Task]bool{}, map[*graph.Task]int{}
	out := Simulated{}
	work := 0.0
	for _, t := range tasks {
		in[t] = true
		for _, u := range t.Dependencies {
			if in[u] {
				blocked[t]++
			}
		}
		if blocked[t] == 0 {
			queue.Add(t)
		}
		work += seconds(t) * float64(min(t.Slots, slots))
		out.Bound = max(out.Bound, remaining[t])
	}
	out.Bound = max(out.Bound, work/float64(slots))
	free, taken, now := slots, map[string]bool{}, 0.0
	var running ends
	for queue.Len() > 0 || len(running) > 0 {
		for free > 0 { // otherwise all that wait would be looked at after each task
			t := queue.Take(func(t *graph.Task) bool { return Fits(t, free, slots, taken) })
			if t == nil {
				break
			}
			free -= min(t.Slots, slots)
			for _, l := range t.Locks {
				taken[l] = true
			}
			heap.Push(&running, end{now + seconds(t), t})
		}
		e := heap.Pop(&running).(end)
		now = e.at
		free += min(e.task.Slots, slots)
		for _, l := range e.task.Locks {
			delete(taken, l)
		}
		for _, u := range e.task.Dependents {
			if blocked[u]--; blocked[u] == 0 && in[u] {
				queue.Add(u)
			}
		}
	}
	out.Makespan = now
	return out
}

// Fits tells whether a task's slots and locks are free. A task that needs more
// slots than exist takes all of them.
func Fits(t *graph.Task, free, slots int, taken map[string]bool) bool {
	for _, l := range t.Locks {
		if taken[l] {
			return false
		}
	}
	return min(t.Slots, slots) <= free
}

type end struct {
	at   float64
	task *graph.Task
}

type ends []end

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i].at < e[j].at }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(x any)        { *e = append(*e, x.(end)) }
func (e *ends) Pop() any {
	last := len(*e) - 1
	x := (*e)[last]
	*e = (*e)[:last]
	return x
}
