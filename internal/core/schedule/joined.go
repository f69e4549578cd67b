package schedule

import (
	"container/heap"

	"grayloft.example/grayloft/internal/core/graph"
)

// Joined is a run of several machines, for simulation.
type Joined struct {
	Members int
	Slots   int     // of each member
	Delay   float64 // seconds until a member sees, and has, what another one made
}

// Simulate runs the tasks on all members in virtual time, as joined runs do: each member
// takes the task with the longest remaining path among those whose dependencies it has and
// that nobody has taken. Tasks must be in graph order. Locks are those of each machine.
func (j Joined) Simulate(tasks []*graph.Task, seconds func(*graph.Task) float64) Simulated {
	known := func(t *graph.Task) (float64, bool) { return seconds(t), true }
	remaining := Remaining(tasks, known)
	in := map[*graph.Task]bool{}
	out, work := Simulated{}, 0.0
	for _, t := range tasks {
		in[t] = true
		work += seconds(t) * float64(min(t.Slots, j.Slots))
		out.Bound = max(out.Bound, remaining[t])
	}
	out.Bound = max(out.Bound, work/float64(j.Slots*j.Members))
	taken := map[*graph.Task]bool{}
	var news happenings
	members := make([]*member, j.Members)
	for i := range members {
		m := &member{queue: NewQueue(remaining), missing: map[*graph.Task]int{}, free: j.Slots, locks: map[string]bool{}}
		members[i] = m
		for _, t := range tasks {
			for _, u := range t.Dependencies {
				if in[u] {
					m.missing[t]++
				}
			}
			if m.missing[t] == 0 {
				m.queue.Add(t)
			}
		}
	}
	for now := 0.0; ; {
		for i, m := range members {
			for t := m.take(taken, j.Slots); t != nil; t = m.take(taken, j.Slots) {
				heap.Push(&news, happening{at: now + seconds(t), member: i, task: t, ended: true})
			}
		}
		if len(news) == 0 {
			return out
		}
		h := heap.Pop(&news).(happening)
		now = h.at
		m := members[h.member]
		if h.ended {
			out.Makespan = now
			m.free += min(h.task.Slots, j.Slots)
			for _, l := range h.task.Locks {
				delete(m.locks, l)
			}
			for i := range members {
				if i != h.member {
					heap.Push(&news, happening{at: now + j.Delay, member: i, task: h.task})
				}
			}
		}
		for _, u := range h.task.Dependents {
			if m.missing[u]--; m.missing[u] == 0 && in[u] {
				m.queue.Add(u)
			}
		}
	}
}

// member is a machine of a joined run.
type member struct {
	queue   *Queue
	missing map[*graph.Task]int // dependencies that it does not have
	free    int
	locks   map[string]bool
}

// take starts the next task that nobody has taken; nil: none fits.
func (m *member) take(taken map[*graph.Task]bool, slots int) *graph.Task {
	for m.free > 0 {
		t := m.queue.Take(func(t *graph.Task) bool { return taken[t] || Fits(t, m.free, slots, m.locks) })
		if t == nil {
			return nil
		}
		if taken[t] {
			continue // another member runs or ran it
		}
		taken[t] = true
		m.free -= min(t.Slots, slots)
		for _, l := range t.Locks {
			m.locks[l] = true
		}
		return t
	}
	return nil
}

// happening is the end of a task at the member that ran it, or its arrival at another one.
type happening struct {
	at     float64
	member int
	task   *graph.Task
	ended  bool
}

type happenings []happening

func (h happenings) Len() int           { return len(h) }
func (h happenings) Less(i, j int) bool { return h[i].at < h[j].at }
func (h happenings) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *happenings) Push(x any)        { *h = append(*h, x.(happening)) }
func (h *happenings) Pop() any {
	last := len(*h) - 1
	x := (*h)[last]
	*h = (*h)[:last]
	return x
}
