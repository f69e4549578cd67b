// Package weigh decides whether running a task here beats fetching what it
// made elsewhere. In go measurements (how long it ran on this machine, how
// many bytes would have to move, what the line to the service has done), out
// comes a decision with its figures. It never guesses: without measurements
// the answer is to fetch.
package weigh

// Line is what has been seen of the way to a service.
type Line struct {
	BytesPerSecond float64 `json:"bytes_per_second"`
	Delay          float64 `json:"delay"`   // seconds until an answer begins
	Samples        int     `json:"samples"` // transfers that the throughput was taken from
}

const (
	small   = 16 << 10 // bytes, up to which a transfer tells of the delay
	large   = 64 << 10 // bytes, from which it tells of the throughput
	trust   = 3        // samples that make a measurement
	newer   = 0.3      // the weight of the newest sample
	minGain = 1.0      // seconds that running has to save
)

// With returns what is known after another transfer.
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

// Fetching returns the seconds that moving bytes is expected to take, and
// whether that is known from measurements.
func (l Line) Fetching(bytes int64) (float64, bool) {
	if l.Samples < trust || l.BytesPerSecond <= 0 {
		return 0, false
	}
	return l.Delay + float64(bytes)/l.BytesPerSecond, true
}

// Choice is a decision with its figures, in seconds.
type Choice struct {
	Run               bool
	Running, Fetching float64
	Bytes             int64
}

// Weigh compares running, which took that many seconds when it last ran here
// (0: it has not), with moving bytes.
func Choose(ranHere float64, bytes int64, l Line) Choice {
	c := Choice{Running: ranHere, Bytes: bytes}
	fetching, known := l.Fetching(bytes)
	c.Fetching = fetching
	c.Run = known && ranHere > 0 && bytes > 0 && ranHere+minGain <= fetching
	return c
}
