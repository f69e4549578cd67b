package engine_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
)

// waiter notes what is waited for, and what is done, in order.
type waiter struct {
	observer
	mu    sync.Mutex
	place string
	left  float64
	done  []string
	lines []string // of tasks that run elsewhere
}

func (w *waiter) Waiting(_ *graph.Task, place string, left float64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.place, w.left = place, left
}

func (w *waiter) Elsewhere(_ *graph.Task, line string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lines = append(w.lines, line)
}

func (w *waiter) Done(r *engine.Result) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done = append(w.done, r.Task.Name+" "+string(r.Outcome))
}

const twoTasks = `schema = 1
[repo]
name = "t"
[task.first]
run = "cat in > out"
reads = ["in"]
writes = ["out"]
probes = []
[task.second]
run = "cat in more > out2"
reads = ["in", "more"]
writes = ["out2"]
probes = []
`

// claimed runs both tasks of twoTasks in one slot, where another client runs the first.
// Meanwhile is called at the first question about it.
func claimed(
	t *testing.T,
	held protocol.HeldClaim,
	noWait bool,
	meanwhile func(s *fakeService, entries []protocol.Entry),
) (*waiter, *engine.Summary) {
	t.Helper()
	texts := map[string]string{"grayloft.toml": twoTasks, "in": "1", "more": "2", ".gitignore": "out\nout2\n"}
	ci, laptop := newMachine(t, texts), newMachine(t, texts)
	s := &fakeService{from: ci.Store, to: laptop.Store, log: []string{"one", "two"}}
	ci.Shared, laptop.Shared = s, s
	if sum := ci.run(t, "first@t"); !sum.OK() {
		t.Fatal(sum.Results)
	}
	entries := s.entries
	s.entries = nil
	var once sync.Once
	s.claim = func(c protocol.Claim) (protocol.ClaimAnswer, error) {
		switch {
		case c.Task != "first@t":
			return protocol.ClaimAnswer{Granted: 9}, nil
		case c.After == held.ID:
			return protocol.ClaimAnswer{Ended: protocol.ClaimFailed}, nil
		}
		once.Do(func() { meanwhile(s, entries) })
		return protocol.ClaimAnswer{Held: &held}, nil
	}
	w := &waiter{}
	laptop.Observer = w
	sum, err := laptop.Run(context.Background(), engine.Options{
		Run: "laptop", Jobs: 1, Fetch: "needed", Grace: time.Second, NoWait: noWait, Follow: true,
		Picked: []*graph.Task{laptop.Graph.Task("first@t"), laptop.Graph.Task("second@t")},
	})
	if err != nil || !sum.OK() {
		t.Fatal(err, sum)
	}
	return w, sum
}

func TestWaitingTakesNoSlotAndIsPartOfWhatATaskTook(t *testing.T) {
	held := protocol.HeldClaim{ID: 5, Place: "ci-4", Elapsed: 10, Seconds: 100}
	w, sum := claimed(t, held, false, func(s *fakeService, entries []protocol.Entry) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.entries = entries
	})
	if w.place != "ci-4" || w.left != 90 || !slices.Equal(w.done, []string{"second ran", "first fetched"}) {
		t.Errorf("waited for %s, %v s left; done: %v", w.place, w.left, w.done)
	}
	if !slices.Equal(w.lines, []string{"one", "two"}) {
		t.Errorf("of its log came %q", w.lines)
	}
	for _, r := range sum.Results {
		if r.Task.Name == "first" && r.Timing.Took < time.Second {
			t.Errorf("it was waited for a second, and took %v", r.Timing.Took)
		}
	}
}

func TestATaskThatFailedElsewhereIsRun(t *testing.T) {
	w, _ := claimed(t, protocol.HeldClaim{ID: 5, Place: "ci-4", Seconds: 100}, false, func(*fakeService, []protocol.Entry) {})
	if !slices.Contains(w.done, "first ran") || w.place != "ci-4" {
		t.Errorf("%q, %v", w.place, w.done)
	}
}

func TestNobodyWaitsForAnOverdueClaimOrWithNoWait(t *testing.T) {
	nothing := func(*fakeService, []protocol.Entry) {}
	overdue, _ := claimed(t, protocol.HeldClaim{ID: 5, Place: "ci-4", Elapsed: 200, Seconds: 100}, false, nothing)
	ignored, _ := claimed(t, protocol.HeldClaim{ID: 5, Place: "ci-4", Seconds: 100}, true, nothing)
	for what, w := range map[string]*waiter{"overdue": overdue, "no wait": ignored} {
		if !slices.Contains(w.done, "first ran") || w.place != "" {
			t.Errorf("%s: waited for %q, %v", what, w.place, w.done)
		}
	}
}

// Behind a slow line, fetching counts: what is nearly done elsewhere is run all the same.
func TestASlowLineIsAReasonNotToWait(t *testing.T) {
	texts := map[string]string{"grayloft.toml": strings.ReplaceAll(twoTasks, "cat in > out", "sleep 2.1; cat in > out"), "in": "1", "more": "2",
		".gitignore": "out\nout2\n"}
	laptop := newMachine(t, texts)
	s := &fakeService{from: laptop.Store, to: laptop.Store}
	laptop.Shared = s
	if sum := laptop.run(t, "first@t"); !sum.OK() {
		t.Fatal(sum.Results)
	}
	asked := 0
	s.claim = func(protocol.Claim) (protocol.ClaimAnswer, error) {
		asked++
		return protocol.ClaimAnswer{Held: &protocol.HeldClaim{ID: 5, Place: "ci-4", Elapsed: 2, Seconds: 2.1}}, nil
	}
	laptop.Store.KeepLine(laptop.Service, decide.Line{BytesPerSecond: 0.1, Samples: 10})
	if err := os.WriteFile(filepath.Join(laptop.dir, "in"), []byte("3"), 0o644); err != nil {
		t.Fatal(err)
	}
	w := &waiter{}
	laptop.Observer = w
	if sum := laptop.run(t, "first@t"); !sum.OK() || asked != 1 || w.place != "" || !slices.Equal(w.done, []string{"first ran"}) {
		t.Errorf("asked %d times, waited for %q: %v", asked, w.place, w.done)
	}
}
