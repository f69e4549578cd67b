package heap

import (
	"math"
	"runtime"
	"testing"
)

func TestGarbageIsCollectedRarelyWhileLittleIsInUse(t *testing.T) {
	for _, c := range []struct {
		inUse           int64
		usual           int
		atLeast, atMost int
	}{
		{12 << 20, 100, 300, 300},    // grows to 48 MB
		{24 << 20, 100, 100, 100},    // as usual from here on
		{1 << 30, 100, 100, 100},     //
		{math.MaxInt64, 50, 50, 50},  //
		{12 << 20, 1000, 1000, 1000}, // GOGC says more
		{0, 100, 1000, 10000},        // nothing is in use: no division by it
	} {
		if got := percent(c.inUse, 48<<20, c.usual); got < c.atLeast || got > c.atMost {
			t.Errorf("%d bytes in use, usually %d %%: %d %%", c.inUse, c.usual, got)
		}
	}
	runtime.GC()
	if n := inUse(-1); n <= 0 {
		t.Errorf("%d bytes in use after a collection", n)
	}
}
