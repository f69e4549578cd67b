package tides

import (
	"math"
	"testing"
)

func TestTwoHighWatersADay(t *testing.T) {
	cs := []Constituent{{"M2", 1, 28.9841042, 0}}
	high := 0
	for _, e := range Extremes(cs, 1, 25.84) {
		if e.High {
			high++
		}
	}
	if high != 2 {
		t.Errorf("%d high waters in a lunar day, want 2", high)
	}
}

func TestHeightIsTheSum(t *testing.T) {
	cs := []Constituent{{"M2", 1.5, 28.9841042, 0}, {"S2", 0.5, 30, 0}}
	if h := Height(cs, 0); math.Abs(h-2) > 1e-9 {
		t.Errorf("height %v, want 2", h)
	}
}
