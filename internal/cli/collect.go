package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

const (
	// fair is how much memory is used before garbage is collected for the first time: most calls end
	// before that, or soon after.
	fair = 64 << 20
	// roomy is the size to which the heap may grow between later collections, if what is in use does
	// not require more.
	roomy = 48 << 20
)

// collectLate makes garbage collection rare as long as little memory is in use.
func collectLate() {
	limit := debug.SetMemoryLimit(fair)
	usual := debug.SetGCPercent(-1)
	if usual < 0 { // switched off by GOGC
		debug.SetMemoryLimit(limit)
		return
	}
	var collected func(*[64]byte)
	collected = func(*[64]byte) {
		debug.SetMemoryLimit(limit)
		debug.SetGCPercent(percent(inUse(), usual))
		runtime.SetFinalizer(new([64]byte), collected)
	}
	runtime.SetFinalizer(new([64]byte), collected)
}

// percent is by how much the heap may grow until the next collection, in percent of what is in
// use.
func percent(inUse uint64, usual int) int {
	return max(usual, int(int64(roomy)*100/int64(max(inUse, 1<<20)))-100)
}

// inUse returns the bytes of the heap that the last collection found in use.
func inUse() uint64 {
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(sample)
	if sample[0].Value.Kind() != metrics.KindUint64 {
		return roomy
	}
	return sample[0].Value.Uint64()
}
