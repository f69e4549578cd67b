package decide

import (
	"math"
	"testing"
)

// slow is a measured connection: one megabyte per second, 50 ms delay.
func slow() Line {
	var l Line
	for range 6 {
		l = l.With(200, 0.05)
		l = l.With(2<<20, 0.05+2.097152)
	}
	return l
}

func TestALineIsMeasured(t *testing.T) {
	l := slow()
	if math.Abs(l.BytesPerSecond-1e6) > 1e4 || math.Abs(l.Delay-0.05) > 0.005 {
		t.Errorf("%+v", l)
	}
	if s, ok := l.Fetching(10e6); !ok || math.Abs(s-10.05) > 0.2 {
		t.Errorf("10 MB take %.2f s, %v", s, ok)
	}
	for range 20 { // it became faster
		l = l.With(10<<20, 0.1)
	}
	if l.BytesPerSecond < 5e7 {
		t.Errorf("a line that became faster: %+v", l)
	}
	if l.With(100, 0) != l || l.With(1<<20, -1) != l {
		t.Error("a transfer that took no time was counted")
	}
}

func TestRunningIsChosenOnlyIfMeasuredToBeFaster(t *testing.T) {
	l := slow()
	for _, c := range []struct {
		name  string
		ran   float64
		bytes int64
		line  Line
		want  bool
	}{
		{"running is much faster", 2, 40e6, l, true},
		{"fetching is faster", 60, 40e6, l, false},
		{"a gain of less than a second", 9.5, 10e6, l, false},
		{"it has never run here", 0, 40e6, l, false},
		{"nothing has to move", 0.1, 0, l, false},
		{"the line is not known", 2, 40e6, Line{}, false},
		{"one transfer is no measurement", 2, 40e6, Line{}.With(1<<20, 10), false},
	} {
		if got := RunOrFetch(c.ran, c.bytes, c.line); got.Run != c.want {
			t.Errorf("%s: %+v", c.name, got)
		}
	}
}
