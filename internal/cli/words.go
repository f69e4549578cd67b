package cli

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/mattn/go-runewidth"

	"grayloft.example/grayloft/internal/core/decide"
)

// seconds formats a duration for a table: 340 ms, 1.2 s, 41 s, 4 m 12 s, 2 h 05
// m.
func seconds(s float64) string {
	switch {
	case s < 0.9995:
		return fmt.Sprintf("%.0f ms", s*1000)
	case s < 9.95:
		return fmt.Sprintf("%.1f s", s)
	case s < 59.5:
		return fmt.Sprintf("%.0f s", s)
	case s < 3599.5:
		n := int(math.Round(s))
		return fmt.Sprintf("%d m %02d s", n/60, n%60)
	}
	n := int(math.Round(s / 60))
	return fmt.Sprintf("%d h %02d m", n/60, n%60)
}

// inWords formats a duration for a sentence: 8s, 4m 10s.
func inWords(s float64) string {
	return strings.ReplaceAll(strings.ReplaceAll(strings.ReplaceAll(seconds(s), " s", "s"), " m", "m"), " h", "h")
}

// clock formats a time of today as hours and minutes, an older one with its
// day.
func clock(t, now time.Time) string {
	t, now = t.Local(), now.Local()
	if t.YearDay() == now.YearDay() && t.Year() == now.Year() {
		return t.Format("15:04")
	}
	if now.Sub(t) < 6*24*time.Hour {
		return t.Format("Mon 15:04")
	}
	return t.Format("2 Jan 2006 15:04")
}

// counted formats a number with its noun.
func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

var marks = map[decide.Outcome]string{
	decide.Current: "●", decide.Cached: "○", decide.Restored: "↴", decide.Fetched: "⤓", decide.Ran: "▶",
	decide.Failed: "✕", decide.Blocked: "‖", decide.Stopped: "‖", decide.NotStarted: "‖",
}

var tints = map[decide.Outcome]lipgloss.AdaptiveColor{
	decide.Current: {Light: "#6d7a82", Dark: "#8b979f"}, decide.Cached: {Light: "#5f7480", Dark: "#93a6b1"},
	decide.Restored: {Light: "#3f7489", Dark: "#6fa6bd"}, decide.Fetched: {Light: "#2f6f8f", Dark: "#8cc4de"},
	decide.Ran: {Light: "#8f5f1f", Dark: "#dda75c"}, decide.Failed: {Light: "#b3363b", Dark: "#e9777b"},
	decide.Blocked: {Light: "#8f5a58", Dark: "#c79a98"}, decide.Stopped: {Light: "#8f5a58", Dark: "#c79a98"},
	decide.NotStarted: {Light: "#8f5a58", Dark: "#c79a98"},
}

// outcome formats an outcome with its mark and its colour.
func (a *app) outcome(o decide.Outcome) string {
	return a.style.NewStyle().Foreground(tints[o]).Render(marks[o] + " " + pad(string(o), 9))
}

// tint colours a text like an outcome.
func (a *app) tint(o decide.Outcome, s string) string {
	c, ok := tints[o]
	if !ok {
		c = tints[decide.Ran]
	}
	return a.style.NewStyle().Foreground(c).Render(s)
}

func (a *app) soft(s string) string {
	return a.style.NewStyle().Foreground(lipgloss.AdaptiveColor{Light: "#55626b", Dark: "#a3b0b8"}).Render(s)
}

func (a *app) bold(s string) string { return a.style.NewStyle().Bold(true).Render(s) }

// pad fills a string up to a width in terminal cells.
func pad(s string, width int) string { return runewidth.FillRight(s, width) }

// clip shortens a string to a width in terminal cells; 0 is no limit.
func clip(s string, width int) string {
	if width <= 0 || runewidth.StringWidth(s) <= width {
		return s
	}
	return runewidth.Truncate(s, width, "…")
}

// table writes rows in columns; the last column is clipped to the terminal.
func (a *app) table(head []string, rows [][]string) {
	wide := make([]int, len(head))
	for _, row := range append([][]string{head}, rows...) {
		for i, cell := range row {
			wide[i] = max(wide[i], runewidth.StringWidth(cell))
		}
	}
	limit := a.width()
	if limit > 0 {
		for i := range wide { // no column but the last takes more than half of a narrow terminal
			wide[i] = min(wide[i], max(12, limit/2))
		}
	}
	line := func(row []string) string {
		var b strings.Builder
		for i, cell := range row {
			if i == len(row)-1 {
				b.WriteString(cell)
			} else {
				b.WriteString(pad(clip(cell, wide[i]), wide[i]) + "  ")
			}
		}
		return clip(strings.TrimRight(b.String(), " "), limit)
	}
	fmt.Fprintln(a.out, a.soft(line(head)))
	for _, row := range rows {
		fmt.Fprintln(a.out, line(row))
	}
}

// grid writes rows in columns without a header; the first column may contain
// colours. The column before the last shrinks if the terminal is narrow; the
// last one is aligned right.
func (a *app) grid(rows [][]string) {
	n := len(rows[0])
	wide := make([]int, n)
	for _, row := range rows {
		for i, cell := range row {
			wide[i] = max(wide[i], ansi.StringWidth(cell))
		}
	}
	if limit := a.width(); limit > 0 {
		rest := 2
		for i, w := range wide {
			if i != n-2 {
				wide[i] = min(w, max(10, limit/3))
				rest += wide[i] + 2
			}
		}
		wide[n-2] = min(wide[n-2], max(limit-rest, 8))
	}
	for _, row := range rows {
		var b strings.Builder
		b.WriteString("  ")
		for i, cell := range row {
			cell = ansi.Truncate(cell, wide[i], "…")
			fill := strings.Repeat(" ", wide[i]-ansi.StringWidth(cell))
			if i == n-1 {
				cell, fill = fill+cell, ""
			}
			b.WriteString(cell + fill + "  ")
		}
		fmt.Fprintln(a.out, fit(strings.TrimRight(b.String(), " "), a.width()))
	}
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// ansiClip shortens a string that may contain colours.
func ansiClip(s string, width int) string { return ansi.Truncate(s, width, "…") }
