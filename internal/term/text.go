package term

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"unicode"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/mattn/go-runewidth"

	"grayloft.example/grayloft/internal/core/pattern"
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

// minRoom is the fewest cells into which text is broken.
const minRoom = 20

// Wrap breaks a text at words into lines of so many terminal cells; 0 is no limit.
func Wrap(s string, room int) []string {
	if room <= 0 || ansi.StringWidth(s) <= room {
		return []string{s}
	}
	return strings.Split(ansi.Wrap(s, max(room, minRoom), ""), "\n")
}

// WrapLog breaks a line of a log, which may contain colours, anywhere; of a very long one, most
// lines are shown.
func WrapLog(s string, room, most int) []string {
	if room <= 0 {
		return []string{s}
	}
	if s = strings.ReplaceAll(s, "\t", "    "); ansi.StringWidth(s) <= room { // a tab has no width of its own
		return []string{s}
	}
	room = max(room, minRoom)
	return strings.Split(ansi.Hardwrap(ansi.Truncate(s, most*room, "…"), room, true), "\n")
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
var sgr = pattern.New("\x1b\\[[0-9;:]*m")

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

// Clean returns a writer that escapes control characters in everything that is
// written to it, apart from colours, so that no text from elsewhere can control
// the terminal.
func Clean(w io.Writer) io.Writer { return &cleaner{w} }

type cleaner struct{ to io.Writer }

// raw returns what a writer of [Clean] writes to.
func raw(w io.Writer) io.Writer {
	if c, ok := w.(*cleaner); ok {
		return c.to
	}
	return w
}

// Write implements [io.Writer].
func (c *cleaner) Write(p []byte) (int, error) {
	text := string(p)
	if strings.ContainsFunc(text, isControl) {
		var b strings.Builder
		at := 0
		for _, m := range sgr.FindAllStringIndex(text, -1) {
			b.WriteString(Printable(text[at:m[0]]))
			b.WriteString(text[m[0]:m[1]])
			at = m[1]
		}
		b.WriteString(Printable(text[at:]))
		text = b.String()
	}
	if _, err := io.WriteString(c.to, text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// hasDarkBackground tells whether the terminal is dark, as far as it says so in
// COLORFGBG, which several terminals set. It is not asked: one that does not
// answer would cost seconds.
func hasDarkBackground(variable string) bool {
	_, background, ok := strings.Cut(variable, ";")
	if i := strings.LastIndexByte(background, ';'); i >= 0 {
		background = background[i+1:]
	}
	n, err := strconv.Atoi(background)
	return !ok || err != nil || n < 7 || n == 8
}

// NewStyle returns the styles for a terminal.
func NewStyle(w io.Writer) *lipgloss.Renderer {
	r := lipgloss.NewRenderer(raw(w))
	r.SetHasDarkBackground(hasDarkBackground(os.Getenv("COLORFGBG")))
	return r
}

// Raw makes the screen write unchanged text: for documents, whose form escapes
// what it must.
func (sc *Screen) Raw() { sc.Out = raw(sc.Out) }
