package schedule

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"testing"

	"grayloft.example/grayloft/internal/core/graph"
)

// A run of several machines takes at most 15 % longer than the larger of the longest path and
// all work over all slots, though a member has what another one made only after a while.
func TestJoinedRunsAreNearTheirBound(t *testing.T) {
	const delay = 0.2 // seconds, of tasks that take 2 on average
	worst, sum, n := 0.0, 0.0, 0
	for seed := range uint64(60) {
		rnd := rand.New(rand.NewPCG(seed, 5))
		g, took := random(t, rnd)
		for _, members := range []int{2, 4, 8} {
			s := Joined{Members: members, Slots: 1, Delay: delay}.Simulate(g.Tasks, func(t *graph.Task) float64 { return took[t.Name] })
			over := s.Makespan/s.Bound - 1
			worst, sum, n = max(worst, over), sum+over, n+1
			if over > 0.15 || over < 0 {
				t.Errorf("seed %d, %d members: %.1f s, and %.1f s is the bound", seed, members, s.Makespan, s.Bound)
			}
		}
	}
	t.Logf("%d joined runs: %.2f %% over the bound on average, %.2f %% at worst", n, 100*sum/float64(n), 100*worst)
}

func TestARecordedRunIsJoinedWell(t *testing.T) {
	g, err := graph.Load(os.DirFS("../../../demo/skerry"), "skerry")
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("testdata/skerry.json")
	if err != nil {
		t.Fatal(err)
	}
	took := map[string]float64{}
	if err := json.Unmarshal(text, &took); err != nil {
		t.Fatal(err)
	}
	for _, members := range []int{2, 4, 8} {
		s := Joined{Members: members, Slots: 1, Delay: 0.2}.Simulate(g.Tasks, func(t *graph.Task) float64 { return took[t.Addr()] })
		t.Logf("%d members: %.2f s, and %.2f s is the bound", members, s.Makespan, s.Bound)
		if s.Makespan > 1.15*s.Bound || s.Makespan < s.Bound {
			t.Errorf("%d members: %.2f s, and %.2f s is the bound", members, s.Makespan, s.Bound)
		}
	}
}

// One member is a run like any other, and without a delay several are one machine with more
// slots.
func TestJoinedRunsAgreeWithPlainOnes(t *testing.T) {
	g, took := random(t, rand.New(rand.NewPCG(1, 2)))
	seconds := func(t *graph.Task) float64 { return took[t.Name] }
	if one, plain := (Joined{Members: 1, Slots: 4}).Simulate(g.Tasks, seconds), Simulate(g.Tasks, 4, seconds); one != plain {
		t.Errorf("%+v and %+v", one, plain)
	}
	many, plain := (Joined{Members: 4, Slots: 1}).Simulate(g.Tasks, seconds), Simulate(g.Tasks, 4, seconds)
	if many.Bound != plain.Bound || many.Makespan > 1.05*plain.Makespan {
		t.Errorf("%+v and %+v", many, plain)
	}
}
