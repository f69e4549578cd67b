package schedule

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

// random makes a layered graph with durations between 0.1 and 20 seconds, most
// of them short, as in real repositories.
func random(t *testing.T, rnd *rand.Rand) (*graph.Graph, map[string]float64) {
	t.Helper()
	var b strings.Builder
	b.WriteString("schema = 1\n")
	took := map[string]float64{}
	var before []string
	for layer := range 3 + rnd.IntN(8) {
		var here []string
		for i := range 5 + rnd.IntN(40) {
			name := fmt.Sprintf("t%d-%d", layer, i)
			here = append(here, name)
			took[name] = math.Min(20, 0.1+rnd.ExpFloat64()*2)
			var after []string
			for range min(rnd.IntN(4), len(before)) {
				after = append(after, fmt.Sprintf("%q", before[rnd.IntN(len(before))]))
			}
			fmt.Fprintf(&b, "[task.%s]\nrun = \"true\"\nwrites = []\nafter = [%s]\n", name, strings.Join(after, ", "))
		}
		before = append(before, here...)
	}
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte(b.String())}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	return g, took
}

func TestSchedulesAreNearTheirBound(t *testing.T) {
	worst, sum, n := 0.0, 0.0, 0
	for seed := range uint64(60) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		g, took := random(t, rnd)
		for _, slots := range []int{2, 4, 8} {
			s := Simulate(g.Tasks, slots, func(t *graph.Task) float64 { return took[t.Name] })
			over := s.Makespan/s.Bound - 1
			worst, sum, n = max(worst, over), sum+over, n+1
			if over > 0.05 {
				t.Errorf("seed %d, %d slots: %.1f s, and %.1f s is the bound", seed, slots, s.Makespan, s.Bound)
			}
		}
	}
	t.Logf("%d schedules: %.2f %% over the bound on average, %.2f %% at worst", n, 100*sum/float64(n), 100*worst)
}

// testdata/skerry.json has the duration in seconds of each task of Skerry Lines
// in a run with an empty cache on two cores.
func TestARecordedRunIsScheduledWell(t *testing.T) {
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
	for _, slots := range []int{2, 3, 4} {
		s := Simulate(g.Tasks, slots, func(t *graph.Task) float64 { return took[t.Addr()] })
		if s.Makespan > 1.05*s.Bound || s.Makespan == 0 {
			t.Errorf("%d slots: %.2f s, and %.2f s is the bound", slots, s.Makespan, s.Bound)
		}
	}
}

func TestLocksAndSlotsAreHeldInTurn(t *testing.T) {
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte("schema = 1\n" +
		"[task.a]\nrun = \"true\"\nlocks = [\"quay\"]\n[task.b]\nrun = \"true\"\nlocks = [\"quay\"]\n[task.c]\nrun = \"true\"\nslots = 9\n")}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	if s := Simulate(g.Tasks, 4, func(*graph.Task) float64 { return 1 }); s.Makespan != 3 {
		t.Errorf("two that share a lock and one that takes every slot took %.0f s, want 3", s.Makespan)
	}
}
