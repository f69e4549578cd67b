package key

import (
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// Lines returns the lines by which the values of a change differ, after - and +, if one has several
// lines, as the output of a probe may; nil otherwise.
func (c Change) Lines() []string {
	if !strings.Contains(c.Before, "\n") && !strings.Contains(c.After, "\n") {
		return nil
	}
	was, is := c.Before+"\n", c.After+"\n"
	text, err := udiff.ToUnified("", "", was, udiff.Lines(was, is), 0)
	if err != nil {
		return nil
	}
	var out []string
	header := true
	for line := range strings.SplitSeq(strings.TrimSuffix(text, "\n"), "\n") {
		if strings.HasPrefix(line, "@@") {
			header = false
		} else if !header {
			out = append(out, line)
		}
	}
	return out
}
