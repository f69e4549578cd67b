// Package critical finds the critical path of a run: the task that ended last,
// the dependency that it waited for longest, and so on. It takes when each task
// worked and what it depends on, and returns tasks.
package critical

import "slices"

// Span is a task of a run. Times are in seconds since the run began.
type Span struct {
	At, Seconds  float64
	Worked       bool // it ran, failed, or transferred something; otherwise its own dependencies count
	Dependencies []string
}

func (s Span) end() float64 { return s.At + s.Seconds }

// Path returns the tasks of the critical path, first to last.
func Path(tasks map[string]Span) []string {
	at, found := "", false
	for name, s := range tasks {
		if s.Worked && (!found || later(tasks, name, at)) {
			at, found = name, true
		}
	}
	var out []string
	for found && !slices.Contains(out, at) {
		out = append(out, at)
		at, found = lastBefore(tasks, at)
	}
	slices.Reverse(out)
	return out
}

// later tells whether a ended after b. Names decide between equal ends, so that
// the path is always the same.
func later(tasks map[string]Span, a, b string) bool {
	x, y := tasks[a].end(), tasks[b].end()
	return x > y || x == y && a < b
}

// lastBefore returns the task that worked and ended last among those that a task
// waited for.
func lastBefore(tasks map[string]Span, of string) (last string, found bool) {
	seen := map[string]bool{}
	todo := slices.Clone(tasks[of].Dependencies)
	for len(todo) > 0 {
		name := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		s, ok := tasks[name]
		if !ok || seen[name] {
			continue
		}
		seen[name] = true
		if !s.Worked {
			todo = append(todo, s.Dependencies...)
		} else if !found || later(tasks, name, last) {
			last, found = name, true
		}
	}
	return last, found
}
