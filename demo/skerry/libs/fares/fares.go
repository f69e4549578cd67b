// Package fares prices a crossing.
package fares

import (
	"skerry.example/money"
	"skerry.example/tides"
)

// Ticket is what a passenger asks for.
type Ticket struct {
	Base   money.Amount
	Adults int
	Young  int
	Bikes  int
}

// Rates are shares of the base fare, in thousandths.
type Rates struct{ Young, Bike, Rough int64 }

// Price adds a ticket up. A rough sea, over two metres of swing, costs less:
// nobody likes it.
func Price(t Ticket, r Rates, port []tides.Constituent) money.Amount {
	sum := t.Base * money.Amount(t.Adults)
	sum += t.Base.Times(r.Young) * money.Amount(t.Young)
	sum += t.Base.Times(r.Bike) * money.Amount(t.Bikes)
	if swing(port) > 2 {
		sum = sum.Times(r.Rough)
	}
	return sum
}

func swing(port []tides.Constituent) float64 {
	s := 0.0
	for _, c := range port {
		s += c.Amplitude
	}
	return 2 * s
}
