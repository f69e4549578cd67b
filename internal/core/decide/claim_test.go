package decide

import (
	"math/rand/v2"
	"testing"
)

func TestWaitingIsChosenWhereItIsFaster(t *testing.T) {
	for _, c := range []struct {
		claim          Claim
		here, fetching float64
		wait           bool
		left           float64
	}{
		{Claim{0, 100}, 100, 0, true, 100},  // at the same moment: waiting costs nothing
		{Claim{60, 100}, 100, 5, true, 40},  // nearly done
		{Claim{10, 100}, 20, 1, false, 90},  // this machine is faster
		{Claim{90, 100}, 20, 1, true, 10},   // but not than the rest
		{Claim{95, 100}, 20, 16, false, 5},  // the line is slow
		{Claim{140, 100}, 100, 5, true, 0},  // late, and not overdue
		{Claim{151, 100}, 100, 5, false, 0}, // overdue
		{Claim{10, 0}, 30, 1, true, 20},     // its estimate is unknown: ours counts
		{Claim{46, 0}, 30, 1, false, 0},
		{Claim{10, 0}, 0, 0, true, 50}, // nothing is known
		{Claim{91, 0}, 0, 0, false, 0},
		{Claim{10, 100}, 0, 5, true, 90},
		{Claim{3500, 1e9}, 0, 0, true, 1e9 - 3500}, // it says what cannot be checked here
		{Claim{3601, 1e9}, 0, 0, false, 0},
	} {
		if wait, left := Await(c.claim, c.here, c.fetching); wait != c.wait || left != c.left {
			t.Errorf("%+v, %v here, %v to fetch: wait %v, left %v", c.claim, c.here, c.fetching, wait, left)
		}
	}
	for seconds, want := range map[float64]bool{0: true, 1.9: false, 2: true, 600: true} {
		if IsWorthClaiming(seconds) != want {
			t.Errorf("a task of %v seconds", seconds)
		}
	}
}

// Whoever waits, asking again every second, has the result not later than by running at
// once plus half of the estimate, however wrong that is; and where the claimant keeps its
// estimate, not later than by running at once.
func TestNobodyWaitsLongerThanTheRuleAllows(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 5000 {
		estimate, here, fetching := 2+100*rnd.Float64(), 2+100*rnd.Float64(), 5*rnd.Float64()
		wrong := []float64{1, 1, 0.1, 10, 0.5, 1000}[rnd.IntN(6)]
		start := estimate * rnd.Float64() // how long the claim has been there
		finish := estimate * wrong
		at, total := 0.0, 0.0
		for {
			if start+at >= finish {
				total = at + fetching
				break
			}
			if wait, _ := Await(Claim{start + at, estimate}, here, fetching); !wait {
				total = at + here
				break
			}
			at++
		}
		if total > here+Overdue*estimate+fetching+1 {
			t.Fatalf("estimate %v, true %v, here %v: %v seconds", estimate, finish, here, total)
		}
		if wrong <= 1 && total > here+fetching+2 {
			t.Fatalf("estimate %v, true %v, here %v, from %v on: %v seconds", estimate, finish, here, start, total)
		}
	}
}
