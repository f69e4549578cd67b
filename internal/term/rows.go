package term

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/mattn/go-runewidth"
)

// Sourced is a value with the position of its declaration.
type Sourced struct {
	Value string `json:"value"`
	From  string `json:"from"` // file:line, or "default"
	By    string `json:"by"`   // "project", "kind go-library", "default", "person"
}

// where describes for people where a value comes from.
func (s Sourced) where() string {
	switch {
	case s.By == "" || s.By == s.From:
		return s.From
	case s.From == "":
		return s.By
	}
	return s.By + ", " + s.From
}

// Plain returns values without positions.
func Plain(names []string) []Sourced {
	out := []Sourced{}
	for _, n := range names {
		out = append(out, Sourced{n, "", ""})
	}
	return out
}

const labelWidth = 12

// Row prints values below each other after their name, each with its source; if
// the terminal is too narrow for both, the source is on the next line.
func (sc *Screen) Row(name string, vals []Sourced) {
	limit := sc.Width()
	wide, widest := 0, 0
	for _, v := range vals {
		widest = max(widest, runewidth.StringWidth(v.where()))
		wide = max(wide, runewidth.StringWidth(v.Value))
	}
	wide = min(wide, 56)
	stacked := limit > 0 && labelWidth+wide+2+widest > limit
	for i, v := range vals {
		if i > 0 {
			name = ""
		}
		label := sc.Soft(Pad(name, labelWidth))
		text := v.Value
		if room := limit - labelWidth; limit > 0 && room > 8 {
			text = ansi.Hardwrap(text, room, true) // no part of a command may be lost
		}
		lines := strings.Split(text, "\n")
		for k, line := range lines {
			if k > 0 {
				label = Pad("", labelWidth)
			}
			if k < len(lines)-1 || v.where() == "" || stacked {
				fmt.Fprintln(sc.Out, strings.TrimRight(label+line, " "))
				continue
			}
			fmt.Fprintln(sc.Out, label+Pad(line, wide)+"  "+sc.Soft(v.where()))
		}
		if stacked && v.where() != "" {
			for line := range strings.SplitSeq(ansi.Hardwrap(v.where(), max(limit-labelWidth-2, 8), true), "\n") {
				fmt.Fprintln(sc.Out, Pad("", labelWidth+2)+sc.Soft(line))
			}
		}
	}
}

// Title prints the name of what is shown, and its help.
func (sc *Screen) Title(name, help string) {
	fmt.Fprintln(sc.Out, sc.Bold(name))
	if help != "" {
		fmt.Fprintln(sc.Out, help)
	}
	fmt.Fprintln(sc.Out)
}
