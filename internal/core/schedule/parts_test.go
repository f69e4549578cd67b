package schedule

import (
	"math/rand/v2"
	"slices"
	"testing"

	"grayloft.example/grayloft/internal/core/graph"
)

func TestPartsDivideEveryTaskOnceAndEvenly(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	worst := 0.0
	for range 60 {
		g, known := random(t, rnd)
		took := map[*graph.Task]float64{}
		for _, x := range g.Tasks {
			took[x] = known[x.Name]
		}
		seconds := func(x *graph.Task) (float64, bool) { return took[x], true }
		n := 1 + rnd.IntN(6)
		parts := Parts(g.Tasks, n, seconds)
		if again := Parts(g.Tasks, n, seconds); len(parts) != n || !slices.EqualFunc(parts, again, slices.Equal) {
			t.Fatal("the same question, another answer")
		}
		seen := map[*graph.Task]int{}
		full, union, largest := 0.0, 0.0, 0.0
		for _, p := range parts {
			load := 0.0
			for _, x := range g.Closure(p) {
				load += took[x]
			}
			full = max(full, load)
			for _, x := range p {
				seen[x]++
			}
		}
		for _, x := range g.Tasks {
			if seen[x] != 1 {
				t.Fatalf("%s is in %d parts", x.Addr(), seen[x])
			}
			union += took[x]
			alone := 0.0
			for _, u := range append(x.Ancestors(), x) {
				alone += took[u]
			}
			largest = max(largest, alone)
		}
		// No division can be better than the larger of the two; work that
		// several parts must repeat is added.
		worst = max(worst, full/max(union/float64(n), largest))
	}
	t.Logf("the fullest part has at most %.2f times what it must", worst)
	if !(worst <= 2.5) {
		t.Errorf("a part has %.2f times what it must", worst)
	}
}
