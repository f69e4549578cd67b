package look

import (
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
)

// EarlyKeys computes the early keys of tasks, which must be in graph order and
// complete. A task whose files cannot be read has none.
func (l *Looker) EarlyKeys(tasks []*graph.Task) map[*graph.Task]digest.Digest {
	keys := map[*graph.Task]digest.Digest{}
	snap := l.Snapshot()
	for _, t := range tasks {
		tk, err := l.Ingredients(t, snap, func(u *graph.Task) digest.Digest { return keys[u] })
		if err == nil {
			keys[t] = tk.In.EarlyKey()
		}
	}
	return keys
}
