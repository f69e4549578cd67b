package decide

// Line is what was measured on the connection to a service.
type Line struct {
	BytesPerSecond float64 `json:"bytes_per_second"`
	Delay          float64 `json:"delay"`   // seconds until an answer starts
	Samples        int     `json:"samples"` // transfers that the throughput was measured on
}

const (
	small   = 16 << 10 // bytes up to which a transfer measures the delay
	large   = 64 << 10 // bytes from which it measures the throughput
	trust   = 3        // samples needed for a measurement
	newer   = 0.3      // the weight of the newest sample
	minGain = 1.0      // seconds that running must save
)

// With returns the measurement updated with another transfer.
func (l Line) With(bytes int64, seconds float64) Line {
	if seconds <= 0 {
		return l
	}
	switch {
	case bytes <= small:
		if l.Delay == 0 {
			l.Delay = seconds
		}
		l.Delay += newer * (seconds - l.Delay)
	case bytes >= large:
		rate := float64(bytes) / max(seconds-l.Delay, seconds/10)
		if l.Samples == 0 {
			l.BytesPerSecond = rate
		}
		l.BytesPerSecond += newer * (rate - l.BytesPerSecond)
		l.Samples++
	}
	return l
}

// Fetching returns the expected seconds to transfer bytes, and whether they
// come from measurements.
func (l Line) Fetching(bytes int64) (float64, bool) {
	if l.Samples < trust || l.BytesPerSecond <= 0 {
		return 0, false
	}
	return l.Delay + float64(bytes)/l.BytesPerSecond, true
}

// Choice is the comparison of running and fetching, in seconds. It never guesses:
// without measurements the answer is to fetch.
type Choice struct {
	Run               bool
	Running, Fetching float64
	Bytes             int64
}

// RunOrFetch compares running, which took that many seconds when it last ran here
// (0: unknown), with transferring bytes.
func RunOrFetch(ranHere float64, bytes int64, l Line) Choice {
	c := Choice{Running: ranHere, Bytes: bytes}
	fetching, known := l.Fetching(bytes)
	c.Fetching = fetching
	c.Run = known && ranHere > 0 && bytes > 0 && ranHere+minGain <= fetching
	return c
}
