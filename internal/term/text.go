package term

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"
	"github.com/mattn/go-runewidth"
)

// Pad fills a string up to a width in terminal cells.
func Pad(s string, width int) string { return runewidth.FillRight(s, width) }

// Fit clips a line, which may contain colours, to a width in terminal cells; 0
// is no limit.
func Fit(s string, width int) string {
	if width <= 0 {
		return s
	}
	return ansi.Truncate(s, width, "…")
}

// Printable returns a text from elsewhere with its control characters escaped,
// so that it cannot control the terminal.
func Printable(s string) string {
	if !strings.ContainsFunc(s, isControl) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == '\t' || !isControl(r):
			b.WriteRune(r)
		default:
			fmt.Fprintf(&b, `\x%02x`, r)
		}
	}
	return b.String()
}

// isControl tells whether a terminal may act on a character: control characters,
// and those that change the direction of text.
func isControl(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r)
}

// sgr matches the sequences that set colours and styles (ECMA-48, SGR).
var sgr = regexp.MustCompile("\x1b\\[[0-9;:]*m")

// PrintableLog is [Printable] for a line of a log, which may keep its colours
// if the screen shows colours.
func (sc *Screen) PrintableLog(line string) string {
	line = strings.TrimSuffix(line, "\r")
	if !strings.Contains(line, "\x1b") {
		return Printable(line)
	}
	var b strings.Builder
	colours := sc.HasColours()
	at := 0
	for _, m := range sgr.FindAllStringIndex(line, -1) {
		b.WriteString(Printable(line[at:m[0]]))
		if colours {
			b.WriteString(line[m[0]:m[1]])
		}
		at = m[1]
	}
	b.WriteString(Printable(line[at:]))
	if colours && at > 0 {
		b.WriteString("\x1b[0m")
	}
	return b.String()
}
