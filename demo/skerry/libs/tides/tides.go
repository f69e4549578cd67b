// Package tides computes the height of the sea from harmonic constituents.
package tides

import "math"

// Constituent is one cosine of the sum that a tide is.
type Constituent struct {
	Name      string
	Amplitude float64 // metres
	Speed     float64 // degrees an hour
	Phase     float64 // degrees
}

// Height returns metres above mean sea level, hours after the epoch.
func Height(cs []Constituent, hours float64) float64 {
	h := 0.0
	for _, c := range cs {
		h += c.Amplitude * math.Cos((c.Speed*hours-c.Phase)*math.Pi/180)
	}
	return h
}

// Extreme is a high or a low water.
type Extreme struct {
	Hours  float64
	Height float64
	High   bool
}

// Extremes finds high and low waters between two times by stepping a minute at
// a time.
func Extremes(cs []Constituent, from, to float64) []Extreme {
	const step = 1.0 / 60
	var out []Extreme
	before, now := Height(cs, from-step), Height(cs, from)
	for h := from; h < to; h += step {
		next := Height(cs, h+step)
		if now > before && now >= next {
			out = append(out, Extreme{h, now, true})
		}
		if now < before && now <= next {
			out = append(out, Extreme{h, now, false})
		}
		before, now = now, next
	}
	return out
}
