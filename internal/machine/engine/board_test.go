package engine

import (
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

// boardOf returns a board whose tasks are all queued. Each task is a name and its limits.
func boardOf(t *testing.T, jobs int, tasks ...string) *board {
	t.Helper()
	text := "schema = 1\n[repo]\nname = \"t\"\n"
	for _, task := range tasks {
		name, limits, _ := strings.Cut(task, " ")
		text += "[task." + name + "]\nrun = \"true\"\nwrites = []\n" + limits + "\n"
	}
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte(text), Mode: 0o644}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	b := newBoard(g.Tasks, jobs, func(*graph.Task) (float64, bool) { return 0, false })
	for n := b.takeNext(); n != nil; n = b.takeNext() {
		b.enqueue(n, verdict{}, 0)
	}
	return b
}

// While outputs are kept, another task takes the slot; but not one that needs what the first
// one still holds, or quiet.
func TestWhoRunsWhileOutputsAreKept(t *testing.T) {
	for _, c := range []struct {
		name  string
		jobs  int
		tasks []string
		next  string // what starts when the process of the first has ended; "": nothing
	}{
		{"another", 2, []string{"a", "b slots = 2", "c"}, "c"},
		{"in a run of one slot, nothing", 1, []string{"a", "b"}, ""},
		{"one with the same lock, not", 2, []string{`a locks = ["x"]`, `b locks = ["x"]`}, ""},
		{"one with two slots, not", 2, []string{"a", "b slots = 2"}, ""},
		{"beside one with two slots, another", 2, []string{"a slots = 2", "b"}, "b"},
	} {
		b := boardOf(t, c.jobs, c.tasks...)
		first, slot := b.takeQueued()
		b.lend(first, slot)
		next, second := b.takeQueued()
		if got := name(next); got != c.next {
			t.Errorf("%s: %q starts", c.name, got)
		}
		if next != nil {
			b.release(next, second)
		}
		b.release(first, slot)
		if s := b.slots; s.free != c.jobs || s.lent != 0 || len(s.locks) != 0 {
			t.Errorf("%s: in the end, %+v", c.name, s)
		}
		for n, slot := b.takeQueued(); n != nil; n, slot = b.takeQueued() {
			b.release(n, slot)
		}
		if s := b.slots; s.free != c.jobs {
			t.Errorf("%s: after all tasks, %+v", c.name, s)
		}
	}
}

// Outputs of at most as many tasks as there are slots are kept beside others.
func TestKeepingIsBounded(t *testing.T) {
	b := boardOf(t, 2, "a", "b", "c", "d", "e", "f")
	started := 0
	for n, slot := b.takeQueued(); n != nil; n, slot = b.takeQueued() {
		started++
		b.lend(n, slot)
	}
	if started != 4 {
		t.Errorf("%d tasks started, of which none was kept", started)
	}
}

func name(n *node) string {
	if n == nil {
		return ""
	}
	return n.task.Name
}
