//go:build trials

package trials

import (
	"math/rand/v2"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/trial"
	"grayloft.example/grayloft/internal/trial/oracle"
)

// TestReuseIsTrueForLong is TestReuseIsTrue of the client for a night.
func TestReuseIsTrueForLong(t *testing.T) {
	p := oracle.Build(t)
	s := trial.Serve(t)
	first := rand.Uint64N(1 << 40)
	var mu sync.Mutex
	var all oracle.Counts
	next, total := uint64(0), uint64(times(20_000))
	var wg sync.WaitGroup
	for range 2 {
		wg.Go(func() {
			for {
				mu.Lock()
				seed := first + next
				next++
				mu.Unlock()
				if seed >= first+total || t.Failed() {
					return
				}
				t.Run("", func(t *testing.T) { // its directories go when it ends
					f, c := oracle.Sequence(t, p, oracle.Options{Seed: seed, Steps: 30, Service: s})
					if f != nil {
						t.Error(f)
					}
					mu.Lock()
					defer mu.Unlock()
					all.Add(c)
				})
			}
		})
	}
	wg.Wait()
	t.Logf("%d sequences: %+v", total, all)
}
