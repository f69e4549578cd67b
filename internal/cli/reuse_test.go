package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
	"grayloft.example/grayloft/internal/trial/oracle"
)

// TestReuseIsTrue carries out random sequences of steps, and compares what is on the disk, in this
// machine's cache and in the shared cache with what a clean execution leaves. Each call has other
// sequences; REUSE_SEED=n repeats the one with that seed.
func TestReuseIsTrue(t *testing.T) {
	const length = 30
	p := oracle.Build(t)
	s := trial.Serve(t)
	if seed, err := strconv.ParseUint(os.Getenv("REUSE_SEED"), 10, 64); err == nil {
		if f, _ := oracle.Sequence(t, p, oracle.Options{Seed: seed, Steps: length, Service: s}); f != nil {
			t.Error(f)
		}
		return
	}
	// What fits into this time is tried; on a slow machine it is less, and at least one sequence.
	until := time.Now().Add(80 * time.Second)
	if testing.Short() {
		until = time.Now().Add(5 * time.Second)
	}
	first := rand.Uint64N(1 << 40)
	for worker := range uint64(2) {
		t.Run(fmt.Sprint("worker ", worker), func(t *testing.T) {
			t.Parallel()
			var all oracle.Counts
			for n := uint64(0); n == 0 || time.Now().Before(until); n++ {
				seed := first + 2*n + worker
				f, c := oracle.Sequence(t, p, oracle.Options{Seed: seed, Steps: length, Service: s})
				all.Add(c)
				if f != nil {
					t.Fatalf("REUSE_SEED=%d repeats this:\n%v", seed, f)
				}
			}
			if all.Ran == 0 || all.Reused+all.Restored+all.Fetched == 0 {
				t.Errorf("the sequences say little: %+v", all)
			}
			t.Logf("%+v", all)
		})
	}
}
