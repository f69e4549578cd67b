package shelf_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"grayloft.example/grayloft/internal/core/shelf"
)

func TestLossesFallOnWhoHoldsTooMuch(t *testing.T) {
	for _, c := range []struct {
		what    string
		charges []shelf.Charge
		need    int64
		want    []shelf.Charge
	}{
		{"junk on one shelf costs neither the trusted one nor a small one",
			[]shelf.Charge{{"person/junk", 500}, {"person/kari", 20}, {"trusted", 400}}, 200, []shelf.Charge{{"person/junk", 200}}},
		{"two large ones lose until they are equal",
			[]shelf.Charge{{"person/a", 400}, {"person/b", 300}, {"trusted", 100}}, 300, []shelf.Charge{{"person/a", 200}, {"person/b", 100}}},
		{"a trusted shelf that fills the repository loses its own entries",
			[]shelf.Charge{{"person/kari", 100}, {"trusted", 850}}, 150, []shelf.Charge{{"trusted", 150}}},
		{"untrusted shelves lose only down to their share, then the trusted one",
			[]shelf.Charge{{"person/a", 300}, {"trusted", 700}}, 200, []shelf.Charge{{"person/a", 50}, {"trusted", 150}}},
		{"with nothing else left, they lose the rest", []shelf.Charge{{"person/a", 200}}, 100, []shelf.Charge{{"person/a", 100}}},
		{"nothing is needed", []shelf.Charge{{"person/a", 900}}, 0, nil},
	} {
		if got := shelf.Losses(c.charges, 1000, c.need); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, not %v", c.what, got, c.want)
		}
	}
}

func TestNoShelfWithinItsShareLosesToAnUntrustedOne(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 8))
	for range 5000 {
		quota := int64(1000)
		charges := []shelf.Charge{{"trusted", rnd.Int64N(700)}}
		for _, name := range []string{"branch/a", "branch/b", "person/c"}[:rnd.IntN(4)] {
			charges = append(charges, shelf.Charge{Shelf: name, Bytes: rnd.Int64N(600)})
		}
		total, untrusted := int64(0), int64(0)
		for _, c := range charges {
			total += c.Bytes
			if c.Shelf != shelf.Trusted {
				untrusted += c.Bytes
			}
		}
		need := max(0, total-800)
		lost := int64(0)
		for _, c := range shelf.Losses(charges, quota, need) {
			lost += c.Bytes
			if c.Shelf == shelf.Trusted && charges[0].Bytes <= 550 && untrusted > 0 {
				t.Fatalf("%v: the trusted shelf loses %d", charges, c.Bytes)
			}
		}
		if lost < need || lost > need+4 {
			t.Fatalf("%v: %d lost, %d needed", charges, lost, need)
		}
	}
}

func TestTheLongestPatternSetsTheLimit(t *testing.T) {
	own := []shelf.Quota{{"person/*", 50}, {"person/kari", 80}, {"trusted", 600}}
	for owner, want := range map[string]int64{"person/kari": 80, "person/olve": 50, "person/*": 50, "trusted": 600, "branch/*": 250} {
		if got := shelf.Limit(owner, 1000, own); got != want {
			t.Errorf("%s: %d, not %d", owner, got, want)
		}
	}
	if got := shelf.Limit(shelf.Trusted, 1000, nil); got != 0 {
		t.Errorf("the trusted shelf has a limit of its own: %d", got)
	}
}
