// Package term is what the terminal shows: the live view of a run, tables,
// plans, differences, and the words and marks of outcomes. It prints what it is
// given and decides nothing.
package term

import (
	"encoding/json"
	"io"
	"os"

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

// JSON prints a value as an indented JSON document.
func (sc *Screen) JSON(v any) error {
	enc := json.NewEncoder(sc.Out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
