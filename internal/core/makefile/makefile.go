// Package makefile reads the targets and variables of a Makefile, as far as its text tells: it
// includes no files
// (https://pubs.opengroup.org/onlinepubs/9799919799/utilities/make.html).
package makefile

import (
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
)

// Names are the names of files that make reads by itself, in its order.
var Names = []string{"GNUmakefile", "makefile", "Makefile"}

// Target is a target with its rule.
type Target struct {
	Name   string
	Phony  bool
	Before string   // its prerequisites, as they are written
	Recipe []string // its command lines, without leading white space
	Help   string   // what follows ## on the line of the rule
}

var (
	phonyLine  = pattern.New(`^\.PHONY\s*:\s*(.*)$`)
	targetLine = pattern.New(`^([A-Za-z0-9_.%/ -]+?)\s*::?([^=].*|)$`)
)

// Targets returns the targets of a Makefile in order of appearance.
func Targets(text string) []Target {
	text = strings.ReplaceAll(text, "\\\n", " ")
	var out []Target
	var phony []string
	index := map[string]int{}
	var at []int // the targets of the rule that is being read
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if m := phonyLine.FindStringSubmatch(line); m != nil {
			phony = append(phony, strings.Fields(m[1])...)
			at = nil
			continue
		}
		if strings.HasPrefix(line, "\t") {
			for _, i := range at {
				out[i].Recipe = append(out[i].Recipe, strings.TrimSpace(line))
			}
			continue
		}
		rule, help, _ := strings.Cut(line, "## ")
		if m := targetLine.FindStringSubmatch(strings.TrimRight(rule, " ")); m != nil {
			at = nil
			for name := range strings.FieldsSeq(m[1]) {
				i, ok := index[name]
				if !ok {
					i = len(out)
					index[name] = i
					out = append(out, Target{Name: name})
				}
				at = append(at, i)
				out[i].Before = strings.TrimSpace(out[i].Before + " " + strings.TrimSpace(m[2]))
				if help != "" {
					out[i].Help = strings.TrimSpace(help)
				}
			}
		} else if strings.TrimSpace(line) != "" && !strings.HasPrefix(line, "#") {
			at = nil
		}
	}
	for _, name := range phony {
		if i, ok := index[name]; ok {
			out[i].Phony = true
		}
	}
	return out
}

// Find returns the target of that name; the default target for an empty one.
func Find(list []Target, name string) (Target, bool) {
	i := slices.IndexFunc(list, func(t Target) bool {
		return t.Name == name || name == "" && !strings.HasPrefix(t.Name, ".") && !strings.Contains(t.Name, "%")
	})
	if i < 0 {
		return Target{}, false
	}
	return list[i], true
}
