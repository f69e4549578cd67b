// Package heap makes garbage collection rare as long as little memory is in use.
package heap

import (
	"math"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// late tells whether the first collection is still to come.
var late struct {
	sync.Mutex
	is bool
}

// CollectLate lets garbage be collected for the first time when the process uses so many bytes.
// Between later collections the heap may grow to a number of bytes, or further if what is in use
// requires it.
func CollectLate(first, roomy int64) {
	limit := debug.SetMemoryLimit(first)
	usual := debug.SetGCPercent(-1)
	if usual < 0 { // switched off by GOGC
		debug.SetMemoryLimit(limit)
		return
	}
	late.Lock()
	defer late.Unlock()
	late.is = true
	var collected func(*[64]byte)
	collected = func(*[64]byte) {
		late.Lock()
		defer late.Unlock()
		late.is = false
		debug.SetMemoryLimit(limit)
		debug.SetGCPercent(percent(inUse(roomy), roomy, usual))
		runtime.SetFinalizer(new([64]byte), collected)
	}
	runtime.SetFinalizer(new([64]byte), collected)
}

// CollectLater puts the first collection off until the process uses so many bytes, unless it has
// happened, or [CollectLate] was not called: for work that keeps most of what it makes.
func CollectLater(first int64) {
	late.Lock()
	defer late.Unlock()
	if late.is {
		debug.SetMemoryLimit(first)
	}
}

// percent is by how much the heap may grow until the next collection, in percent of what is in
// use.
func percent(inUse, roomy int64, usual int) int {
	return max(usual, int(roomy*100/max(inUse, 1<<20))-100)
}

// inUse returns the bytes of the heap that the last collection found in use; otherwise is for a
// runtime that does not tell.
func inUse(otherwise int64) int64 {
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(sample)
	if sample[0].Value.Kind() != metrics.KindUint64 {
		return otherwise
	}
	return int64(min(sample[0].Value.Uint64(), math.MaxInt64))
}
