package heap

import (
	"math"
	"runtime"
	"runtime/debug"
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

func TestTheFirstCollectionCanBePutOff(t *testing.T) {
	limit, usual := debug.SetMemoryLimit(-1), debug.SetGCPercent(100)
	defer func() { debug.SetMemoryLimit(limit); debug.SetGCPercent(usual) }()
	CollectLater(1 << 30)
	if got := debug.SetMemoryLimit(-1); got != limit {
		t.Errorf("the limit is %d although nothing was late", got)
	}
	CollectLate(1<<29, 1<<20)
	CollectLater(1 << 30)
	if got := debug.SetMemoryLimit(-1); got != 1<<30 {
		t.Errorf("the limit is %d", got)
	}
	for isLate := true; isLate; { // until the finalizer of the collection has run
		runtime.GC()
		late.Lock()
		isLate = late.is
		late.Unlock()
	}
	CollectLater(1 << 31)
	if got := debug.SetMemoryLimit(-1); got != limit {
		t.Errorf("the limit is %d after a collection", got)
	}
}
