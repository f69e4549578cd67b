package amount_test

import (
	"testing"

	"grayloft.example/grayloft/internal/core/amount"
)

func TestDurationsAreForPeople(t *testing.T) {
	for s, want := range map[float64]string{
		0: "0 ms", 0.0123: "12 ms", 2.359: "2.4 s", -2.359: "−2.4 s", 59: "59 s", 61: "1 m 01 s", 3599.6: "1 h 00 m", 7260: "2 h 01 m",
		-0.25: "−250 ms", -61: "−1 m 01 s",
	} {
		if got := amount.Seconds(s); got != want {
			t.Errorf("%v: %q, want %q", s, got, want)
		}
	}
}

func TestOneIsSingular(t *testing.T) {
	for n, want := range map[int]string{0: "0 entries", 1: "1 entry", 2: "2 entries"} {
		if got := amount.Count(n, "entry", "entries"); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
