// Package timetable says when a ferry can sail.
package timetable

import "skerry.example/tides"

// Berth is a quay that dries out below some height.
type Berth struct {
	Port   string
	Least  float64 // metres that a ferry needs
	Tides  []tides.Constituent
	Closed []int // hours of the day
}

// Window is a stretch of hours in which a ferry can lie at a berth.
type Window struct{ From, To float64 }

// Windows returns when a berth has water enough, a quarter of an hour at a
// time.
func Windows(b Berth, from, to float64) []Window {
	var out []Window
	open := false
	for h := from; h < to; h += 0.25 {
		ok := tides.Height(b.Tides, h) >= b.Least && !closed(b, int(h)%24)
		if ok && !open {
			out = append(out, Window{From: h})
		}
		if ok {
			out[len(out)-1].To = h + 0.25
		}
		open = ok
	}
	return out
}

func closed(b Berth, hour int) bool {
	for _, h := range b.Closed {
		if h == hour {
			return true
		}
	}
	return false
}
