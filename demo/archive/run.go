package main

import (
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/key"
)

// place is where runs happen.
type place struct {
	name  string
	speed float64 // of its line, in bytes a second
	delay float64 // of each transfer, in seconds
	pace  float64 // how long tasks take there, against the usual
}

// slowSpeed is the speed of the slow line, in bytes a second.
const slowSpeed = 600e3

var places = []place{
	{"harbour-ci", 120e6, 0.02, 0.8}, {"north-office", 40e6, 0.03, 1}, {"south-office", 25e6, 0.04, 1},
	{"home", 8e6, 0.06, 1.1}, {"outer-isle", slowSpeed, 0.12, 1.1},
}

// actor is a person, or CI, with a working copy and a cache.
type actor struct {
	name, host string
	place      place
	jobs       int
	work       *workspace
	fresh      bool              // starts each run without a cache: a runner
	local      map[uint64]*entry // its own cache
	branch     string
	focus      []int // projects
	token      int64
	shelf      string
}

// run is one run, with its records.
type run struct {
	id        string
	began     time.Time
	by        *actor
	place     place
	branch    string
	shelf     string
	commit    uint64
	requested []string
	noReuse   bool
	jobs      int
	ok        bool
	seconds   float64
	saved     float64
	fetching  float64
	in, out   int64
	critical  float64
	totals    map[decide.Outcome]int
	records   []record
	cases     []testCase
}

// record is what happened to one task.
type record struct {
	task    int
	at      float64
	slot    int
	attempt int
	outcome decide.Outcome
	reason  key.Reason
	detail  []string
	changed []string
	seconds, runSeconds,
	fetchSeconds, saved float64
	in, out  int64
	picked   bool
	key      uint64
	listing  uint64
	made     *entry
	compared string
	same     *bool
	tests    int
	failed   int
	critical float64
}

type testCase struct {
	task, number int
	name, result string
	seconds      float64
	message      string
}
