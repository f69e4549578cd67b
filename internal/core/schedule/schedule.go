// Package schedule decides in which order ready tasks start: the one with the
// longest remaining path first, each task weighted by its earlier duration.
// It takes durations and returns an order; it has no clock and no process.
package schedule

import (
	"container/heap"

	"grayloft.example/grayloft/internal/core/graph"
)

// Unknown is the weight, in seconds, of a task without a recorded duration.
const Unknown = 1.0

// Remaining returns, for each task, the weight in seconds of the longest path
// that starts with it and follows tasks of the plan. Tasks must be in graph
// order.
func Remaining(tasks []*graph.Task, seconds func(*graph.Task) (float64, bool)) map[*graph.Task]float64 {
	out := make(map[*graph.Task]float64, len(tasks))
	for i := len(tasks) - 1; i >= 0; i-- {
		t := tasks[i]
		longest := 0.0
		for _, next := range t.Dependents {
			longest = max(longest, out[next]) // 0 for a task outside the plan
		}
		own, known := seconds(t)
		if !known {
			own = Unknown
		}
		out[t] = own + longest
	}
	return out
}

// Queue holds ready tasks, the one with the longest remaining path first. Ties
// are broken by address, so that two runs start alike.
type Queue struct {
	remaining map[*graph.Task]float64
	tasks     []*graph.Task
}

// NewQueue returns an empty queue that orders by remaining.
func NewQueue(remaining map[*graph.Task]float64) *Queue { return &Queue{remaining: remaining} }

// Add puts a task into the queue.
func (q *Queue) Add(t *graph.Task) { heap.Push((*order)(q), t) }

// Len returns how many tasks wait.
func (q *Queue) Len() int { return len(q.tasks) }

// Take removes and returns the first task, in the queue's order, that fits.
func (q *Queue) Take(fits func(*graph.Task) bool) *graph.Task {
	var passed []*graph.Task
	var found *graph.Task
	for len(q.tasks) > 0 && found == nil {
		t := heap.Pop((*order)(q)).(*graph.Task)
		if fits(t) {
			found = t
		} else {
			passed = append(passed, t)
		}
	}
	for _, t := range passed {
		q.Add(t)
	}
	return found
}

type order Queue

func (o *order) Len() int { return len(o.tasks) }
func (o *order) Less(i, j int) bool {
	a, b := o.tasks[i], o.tasks[j]
	if o.remaining[a] != o.remaining[b] {
		return o.remaining[a] > o.remaining[b]
	}
	return a.Addr() < b.Addr()
}
func (o *order) Swap(i, j int) { o.tasks[i], o.tasks[j] = o.tasks[j], o.tasks[i] }
func (o *order) Push(x any)    { o.tasks = append(o.tasks, x.(*graph.Task)) }
func (o *order) Pop() any {
	last := len(o.tasks) - 1
	t := o.tasks[last]
	o.tasks = o.tasks[:last]
	return t
}
