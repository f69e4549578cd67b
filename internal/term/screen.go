// Package term is what the terminal shows: the live view of a run, tables,
// plans, differences, and the words and marks of outcomes. It prints what it is
// given and decides nothing.
package term

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
	"github.com/muesli/termenv"
	"golang.org/x/term"
)

// Screen is where a command prints.
type Screen struct {
	Out, Err io.Writer
	Format   string // text or json
	Quiet    bool   // print only errors and failures
	Verbose  bool   // also list tasks that needed no work
	Style    *lipgloss.Renderer
}

// Width returns the columns of the terminal, or 0 if the output is not a
// terminal.
func (sc *Screen) Width() int {
	f, ok := raw(sc.Out).(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 80
	}
	return w
}

// HasColours tells whether the screen shows colours.
func (sc *Screen) HasColours() bool {
	return sc.Style != nil && sc.Style.ColorProfile() != termenv.Ascii
}

// JSON prints a value as an indented JSON document. Characters that a terminal may act on are
// escaped, as RFC 8259, section 7, allows for any.
func (sc *Screen) JSON(v any) error {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	out := make([]byte, 0, text.Len())
	for _, r := range text.String() {
		if r != '\n' && isControl(r) {
			out = fmt.Appendf(out, `\u%04x`, r)
		} else {
			out = utf8.AppendRune(out, r)
		}
	}
	_, err := sc.Out.Write(out)
	return err
}
