// Package amount words quantities for people, the same in the terminal, in reports and on pages.
package amount

import "fmt"

// Seconds words a duration: 340 ms, 1.2 s, 41 s, 4 m 12 s, 2 h 05 m.
func Seconds(s float64) string {
	switch {
	case s < 0:
		return "−" + Seconds(-s)
	case s < 0.9995:
		return fmt.Sprintf("%.0f ms", s*1000)
	case s < 9.95:
		return fmt.Sprintf("%.1f s", s)
	case s < 59.5:
		return fmt.Sprintf("%.0f s", s)
	case s < 3599.5:
		return fmt.Sprintf("%d m %02d s", int(s+0.5)/60, int(s+0.5)%60)
	}
	m := int(s/60 + 0.5)
	return fmt.Sprintf("%d h %02d m", m/60, m%60)
}

// Count words a number of things.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
