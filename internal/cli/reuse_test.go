package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
	"grayloft.example/grayloft/internal/trial/oracle"
)

// TestReuseIsTrue carries out random sequences of steps, and compares what is on the disk, in this
// machine's cache and in the shared cache with what a clean execution leaves. Each call has other
// sequences; REUSE_SEED=n repeats the one with that seed. REUSE_ONLY names kinds or families of steps
// that are tried beside the usual ones, and REUSE_CLIENT another client, such as an earlier one.
func TestReuseIsTrue(t *testing.T) {
	const length = 30
	p := oracle.Build(t)
	if other := os.Getenv("REUSE_CLIENT"); other != "" {
		p.Client = other
	}
	s := trial.Serve(t)
	o := oracle.Options{Steps: length, Service: s}
	if only := os.Getenv("REUSE_ONLY"); only != "" {
		o.Only = strings.Split(only, ",")
	}
	if seed, err := strconv.ParseUint(os.Getenv("REUSE_SEED"), 10, 64); err == nil {
		o.Seed = seed
		if f, _ := oracle.Sequence(t, p, o); f != nil {
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
				mine := o
				mine.Seed = first + 2*n + worker
				f, c := oracle.Sequence(t, p, mine)
				all.Add(c)
				if f != nil {
					t.Fatalf("REUSE_SEED=%d repeats this:\n%v", mine.Seed, f)
				}
			}
			if all.Ran == 0 || all.Reused+all.Restored+all.Fetched == 0 {
				t.Errorf("the sequences say little: %+v", all)
			}
			t.Logf("%+v", all)
		})
	}
}
