package timetable

import (
	"testing"

	"skerry.example/tides"
)

func TestWindowsFollowTheTide(t *testing.T) {
	b := Berth{Port: "eelport", Least: 0, Tides: []tides.Constituent{{Name: "M2", Amplitude: 1, Speed: 28.9841042}}}
	if n := len(Windows(b, 0, 24)); n < 2 || n > 3 {
		t.Errorf("%d windows in a day, want 2 or 3", n)
	}
}

func TestClosedAtNight(t *testing.T) {
	b := Berth{Least: -9, Closed: []int{0, 1, 2, 3, 4, 5}}
	w := Windows(b, 0, 24)
	if len(w) != 1 || w[0].From != 6 {
		t.Errorf("windows %v", w)
	}
}
