package main

import (
	"testing"

	"skerry.example/timetable"
)

func TestAnOpenBerthSailsOnce(t *testing.T) {
	s := sailings("gullhaven", timetable.Berth{Least: -9})
	if len(s) != 1 || s[0].Route != "gullhaven" {
		t.Errorf("%+v", s)
	}
}
