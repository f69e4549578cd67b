package main

import (
	"math"
	"strings"
	"testing"
)

// atMost is how far a simulated day may be from the recorded one.
const atMost = 0.2

func TestRecordedDaysAreSimulatedAsTheyWere(t *testing.T) {
	all, recordings, err := replay("recorded")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range all {
		if r.Recorded.Runs < 20 || r.Recorded.Runs != r.Simulated.Runs {
			t.Errorf("%s: %d runs, %d simulated", r.Repository, r.Recorded.Runs, r.Simulated.Runs)
		}
		for _, l := range r.Lines() {
			if l.Recorded == 0 || math.Abs(l.Part()) > atMost {
				t.Errorf("%s: %s: recorded %.0f, simulated %.0f", r.Repository, l.What, l.Recorded, l.Simulated)
			}
		}
	}
	if f := fit(recordings); f.RunsPerDay < 3 || f.RunsPerDay > 30 || f.Seconds.Deviation < 0.3 || f.Bytes.Deviation < 0.3 {
		t.Errorf("%+v", f)
	}
}

func TestNumbersHaveThreeDigits(t *testing.T) {
	for x, want := range map[float64]string{0: "0", 0.27881: "0.279", 1: "1", 35.94: "35.9", 1938: "1,938", 381599: "381,599", 0.0046: "0.0046", 1e6: "1,000,000"} {
		if got := significant(x); got != want {
			t.Errorf("%v: %s, want %s", x, got, want)
		}
	}
}

func TestTheProcessorTimeOfAProcessIsRead(t *testing.T) {
	stat := []byte("42 (a (strange) name) S 7 42 42 0 -1 4194304 100 0 0 0 150 50 20 30 20 0 1 0 100")
	if parent(stat) != 7 || strings.Join(fields(stat)[11:15], " ") != "150 50 20 30" {
		t.Error(fields(stat))
	}
}
