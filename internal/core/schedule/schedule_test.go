package schedule

import (
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

func TestTheLongestRemainingPathGoesFirst(t *testing.T) {
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte(`schema = 1
[task.short]
run = "true"
writes = []
[task.long]
run = "true"
writes = []
[task.head]
run = "true"
writes = []
[task.tail]
run = "true"
writes = []
after = ["head"]
`)}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	took := map[string]float64{"short": 2, "long": 5, "head": 0.5, "tail": 6}
	remaining := Remaining(g.Tasks, func(t *graph.Task) (float64, bool) { s, ok := took[t.Name]; return s, ok })
	if got := remaining[g.Task("head@t")]; got != 6.5 {
		t.Errorf("from head there remain %v s, want 6.5", got)
	}
	q := NewQueue(remaining)
	for _, name := range []string{"short", "long", "head"} {
		q.Add(g.Task(name + "@t"))
	}
	any := func(*graph.Task) bool { return true }
	for _, want := range []string{"head", "long", "short"} {
		if got := q.Take(any); got == nil || got.Name != want {
			t.Fatalf("%v went before %s", got, want)
		}
	}
	q.Add(g.Task("long@t"))
	q.Add(g.Task("short@t"))
	if got := q.Take(func(t *graph.Task) bool { return t.Name == "short" }); got.Name != "short" || q.Len() != 1 {
		t.Error("what does not fit now is not kept")
	}
}
