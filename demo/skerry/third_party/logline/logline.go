// Package logline writes what a program does, one line at a time. This is a copy of
// version 1.4.0, kept here so that nothing is fetched.
package logline

import (
	"strings"
	"time"
)

// Line returns a line: the time to the second, what happened, and its details.
func Line(at time.Time, what string, details ...string) string {
	return strings.Join(append([]string{at.UTC().Format(time.RFC3339), what}, details...), "  ")
}
