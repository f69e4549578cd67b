package look

import (
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/files"
)

// early are early keys in place of outputs, which nobody knows yet.
type early map[*graph.Task]digest.Digest

func (e early) Listing(u *graph.Task) digest.Digest    { return e[u] }
func (early) Contains(u *graph.Task, path string) bool { return u.WritesFile(path) }
func (early) Leads(*graph.Task) []files.Lead           { return nil }

// EarlyKeys computes the early keys of tasks, which must be in graph order and
// complete. A task whose files cannot be read has none.
func (l *Looker) EarlyKeys(tasks []*graph.Task) map[*graph.Task]digest.Digest {
	keys := early{}
	snap := l.Snapshot()
	for _, t := range tasks {
		tk, err := l.Ingredients(t, snap, keys)
		if err == nil {
			keys[t] = tk.In.EarlyKey()
		}
	}
	return keys
}
