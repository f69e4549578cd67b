package main

import (
	"testing"

	wire "skerry.example/wire-schema/gen"
)

func TestOnlyThePaidBoard(t *testing.T) {
	for b, want := range map[wire.Booking]string{
		{}:                     "no ticket",
		{Id: "k7"}:             "pay at the desk",
		{Id: "k7", Paid: true}: "welcome aboard",
	} {
		if got := admit(b); got != want {
			t.Errorf("%+v: %q, want %q", b, got, want)
		}
	}
}
