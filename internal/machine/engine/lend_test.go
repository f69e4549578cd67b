package engine_test

import (
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
)

// starts is an observer that calls do when a task starts.
type starts struct {
	observer
	do func()
}

func (s starts) Started(*graph.Task, time.Duration, int) { s.do() }

// runThree runs three tasks with the same command in two slots.
func runThree(t *testing.T, command string, prepare func(*machine)) *engine.Summary {
	t.Helper()
	text := "schema = 1\n[repo]\nname = \"t\"\n"
	for _, name := range []string{"a", "b", "c"} {
		text += fmt.Sprintf("[task.%s]\nrun = %q\nreads = []\nwrites = []\nprobes = []\n", name, command)
	}
	m := newMachine(t, map[string]string{"grayloft.toml": text})
	prepare(m)
	return m.run(t, "a@t", "b@t", "c@t")
}

// While the outputs of two tasks are kept, the third one runs in the slot of one of them.
func TestASlotIsFreeWhileOutputsAreKept(t *testing.T) {
	third, count, late := make(chan struct{}), atomic.Int32{}, atomic.Bool{}
	sum := runThree(t, "true", func(m *machine) {
		m.Observer = starts{do: func() {
			if count.Add(1) == 3 {
				close(third)
			}
		}}
		m.Maker = func() protocol.Maker { // is called while a result is kept
			select {
			case <-third:
			case <-time.After(time.Minute):
				late.Store(true)
			}
			return protocol.Maker{Name: "m"}
		}
	})
	if !sum.OK() || late.Load() {
		t.Error("the third task waited until the outputs of another were kept")
	}
}

// After a failure nothing new starts, not even while what is left of it is kept.
func TestTheSlotOfAFailureIsNotLent(t *testing.T) {
	got := runThree(t, "false", func(*machine) {}).Totals()
	if got[string(decide.NotStarted)] == 0 {
		t.Errorf("%v", got)
	}
}
