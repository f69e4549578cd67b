package fares

import (
	"testing"

	"skerry.example/tides"
)

func TestPrice(t *testing.T) {
	r := Rates{Young: 500, Bike: 250, Rough: 900}
	got := Price(Ticket{Base: 1200, Adults: 2, Young: 1, Bikes: 1}, r, nil)
	if got != 3300 {
		t.Errorf("price %v, want £33.00", got)
	}
}

func TestRoughSeasCostLess(t *testing.T) {
	r := Rates{Rough: 900}
	port := []tides.Constituent{{Amplitude: 1.4}}
	if got := Price(Ticket{Base: 1000, Adults: 1}, r, port); got != 900 {
		t.Errorf("price %v, want £9.00", got)
	}
}
