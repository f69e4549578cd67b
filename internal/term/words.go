package term

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/graph"
)

// Seconds formats a duration for a table: 340 ms, 1.2 s, 41 s, 4 m 12 s, 2 h 05 m.
func Seconds(s float64) string { return amount.Seconds(s) }

// InWords formats a duration for a sentence: 340ms, 8s, 4m 10s.
func InWords(s float64) string {
	return strings.NewReplacer(" ms", "ms", " s", "s", " m", "m", " h", "h").Replace(Seconds(s))
}

// Clock formats a time of today as hours and minutes, an older one with its day.
func Clock(t, now time.Time) string {
	t, now = t.Local(), now.Local()
	if t.YearDay() == now.YearDay() && t.Year() == now.Year() {
		return t.Format("15:04")
	}
	if now.Sub(t) < 6*24*time.Hour {
		return t.Format("Mon 15:04")
	}
	return t.Format("2 Jan 2006 15:04")
}

// Size formats a number of bytes: 41 MB.
func Size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

// FirstFew lists at most three names, and counts the others.
func FirstFew(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	return strings.Join(names, ", ")
}

// OrDash returns the text, or a dash if it is empty.
func OrDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// FirstLine returns the first line of a text, with a mark if there are more.
func FirstLine(s string) string {
	line, rest, _ := strings.Cut(strings.TrimSpace(s), "\n")
	if rest != "" {
		line += " …"
	}
	return line
}

// Addresses returns the addresses of tasks.
func Addresses(tasks []*graph.Task) []string {
	out := []string{}
	for _, t := range tasks {
		out = append(out, t.Addr())
	}
	return out
}
