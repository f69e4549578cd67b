package schedule

import (
	"cmp"
	"slices"

	"grayloft.example/grayloft/internal/core/graph"
)

// Parts divides picked tasks among n runners; each runner also needs the
// dependencies of its tasks. A task goes to the runner where it adds the least
// to the largest load, the longest first; a dependency of another picked task
// goes with that task. The same tasks and seconds give the same parts.
func Parts(picked []*graph.Task, n int, seconds func(*graph.Task) (float64, bool)) [][]*graph.Task {
	cost := func(t *graph.Task) float64 {
		if s, ok := seconds(t); ok {
			return s
		}
		return Unknown
	}
	is := map[*graph.Task]bool{}
	for _, t := range picked {
		is[t] = true
	}
	below := map[*graph.Task]bool{} // picked, and a dependency of another picked task
	type unit struct {
		task *graph.Task
		all  []*graph.Task // with its dependencies
		sum  float64
	}
	var units []unit
	for t := range is {
		u := unit{task: t, all: append(t.Ancestors(), t)}
		for _, b := range u.all {
			u.sum += cost(b)
			if b != t && is[b] {
				below[b] = true
			}
		}
		units = append(units, u)
	}
	units = slices.DeleteFunc(units, func(u unit) bool { return below[u.task] })
	slices.SortFunc(units, func(a, b unit) int {
		return cmp.Or(-cmp.Compare(a.sum, b.sum), cmp.Compare(a.task.Addr(), b.task.Addr()))
	})
	out := make([][]*graph.Task, n)
	has := make([]map[*graph.Task]bool, n)
	load := make([]float64, n)
	placed := map[*graph.Task]bool{}
	for i := range has {
		has[i] = map[*graph.Task]bool{}
	}
	for _, u := range units {
		best, least := 0, 0.0
		for i := range out {
			after := load[i]
			for _, t := range u.all {
				if !has[i][t] {
					after += cost(t)
				}
			}
			if i == 0 || after < least {
				best, least = i, after
			}
		}
		load[best] = least
		for _, t := range u.all {
			has[best][t] = true
			if is[t] && !placed[t] {
				placed[t] = true
				out[best] = append(out[best], t)
			}
		}
	}
	for i := range out {
		slices.SortFunc(out[i], func(a, b *graph.Task) int { return cmp.Compare(a.Index, b.Index) })
	}
	return out
}
