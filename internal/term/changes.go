package term

import (
	"fmt"
	"strings"

	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/inspect"
)

// PrintChanges prints ingredients that differ, with what is known of them.
func (sc *Screen) PrintChanges(changes []inspect.Change) {
	for _, c := range changes {
		what := Printable(c.What)
		if what == "" {
			what = "the details are no longer available"
		}
		line := fmt.Sprintf("  %-13s %s %s", c.Reason, what, c.How)
		if c.How == "new" || c.How == "gone" {
			line = fmt.Sprintf("  %-13s %s is %s", c.Reason, what, c.How)
		}
		fmt.Fprintln(sc.Out, "\n"+line)
		switch {
		case len(c.Lines) > 0:
			for _, l := range c.Lines {
				fmt.Fprintln(sc.Out, "                "+Fit(Printable(l), max(sc.Width()-16, 0)))
			}
		case c.Path != "" || (c.Was == "" && c.Is == ""):
		case c.Reason == string(key.Upstream):
		default:
			for _, side := range []struct{ mark, text string }{{"-", c.Was}, {"+", c.Is}} {
				if side.text != "" {
					fmt.Fprintln(
						sc.Out,
						"                "+side.mark+" "+strings.ReplaceAll(Printable(side.text), "\n", "\n                  "),
					)
				}
			}
		}
	}
}
