package decl

import (
	"fmt"
	"slices"
	"strings"

	"github.com/agext/levenshtein"
	"grayloft.example/grayloft/internal/core/amount"
)

// Pos is a position in a declaration.
type Pos struct {
	File  string // relative to the repository's root, with slashes
	Line  int    // from 1; 0 where there is no line to show
	Col   int    // from 1, in characters
	Width int    // characters to underline
	Kind  string // the kind whose table it is in, if any
}

func (p Pos) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.Col == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Col)
}

// At returns "file:line", to refer to a second position.
func (p Pos) At() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// Problem is one error in a declaration: where, what, and how to fix it.
type Problem struct {
	Pos
	Message string
	Advice  string // how to fix it; shown below the position
	Source  string // the offending line, without its line feed
}

// Problems are all errors found, ordered by file and line.
type Problems []Problem

// Error lists every problem with its line and its fix.
func (ps Problems) Error() string {
	var b strings.Builder
	files := map[string]bool{}
	for _, p := range ps {
		files[p.File] = true
		p.write(&b)
		b.WriteByte('\n')
	}
	fmt.Fprintf(&b, "%s in %s", amount.Count(len(ps), "error", "errors"), amount.Count(len(files), "file", "files"))
	return b.String()
}

func (p Problem) write(b *strings.Builder) {
	fmt.Fprintf(b, "%s  %s\n", p.Pos, p.Message)
	if p.Line == 0 || strings.TrimSpace(p.Source) == "" {
		if p.Advice != "" {
			fmt.Fprintf(b, "  %s\n", p.Advice)
		}
		return
	}
	fmt.Fprintf(b, "  %d │ %s\n", p.Line, strings.ReplaceAll(p.Source, "\t", " "))
	margin := strings.Repeat(" ", len(fmt.Sprint(p.Line))+3)
	fmt.Fprintf(b, "%s│ %s%s", margin, strings.Repeat(" ", max(p.Col-1, 0)), strings.Repeat("^", max(p.Width, 1)))
	if p.Advice != "" {
		b.WriteByte(' ')
		b.WriteString(p.Advice)
	}
	b.WriteByte('\n')
}

// Sorted returns the problems ordered by file and line, without duplicates.
func (ps Problems) Sorted() Problems {
	slices.SortStableFunc(ps, func(a, b Problem) int {
		if c := strings.Compare(a.File, b.File); c != 0 {
			return c
		}
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Col - b.Col
	})
	return slices.CompactFunc(ps, func(a, b Problem) bool { return a.Pos == b.Pos && a.Message == b.Message })
}

// Closest returns the likely intended name, or "".
func Closest(name string, among []string) string {
	best, least := "", max(2, len(name)/3)+1
	for _, c := range among {
		d := levenshtein.Distance(strings.ToLower(name), strings.ToLower(c), nil)
		if d < least && d < max(len(name), len(c)) { // something of the name is left
			best, least = c, d
		}
	}
	return best
}

func meant(name string, among []string) string {
	if c := Closest(name, among); c != "" {
		return fmt.Sprintf("did you mean %q?", c)
	}
	if len(among) > 0 && len(among) <= 30 {
		sorted := slices.Sorted(slices.Values(among))
		return "valid here: " + strings.Join(sorted, ", ")
	}
	return ""
}
