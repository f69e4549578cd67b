package check

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"

	"grayloft.example/grayloft/internal/core/decl"
)

// Edit replaces a part of a file: from a place up to, and without, another one.
// Lines and columns are from 1, columns in characters.
type Edit struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	Column    int    `json:"column"`
	EndLine   int    `json:"end_line"`
	EndColumn int    `json:"end_column"`
	Text      string `json:"text"`
}

// ErrStale is returned for an edit whose place is not in the text: the file changed
// since it was checked.
var ErrStale = errors.New("it changed since it was checked")

// Apply makes the edits of a file in its text. Bytes outside of them stay as they
// are. An edit that is there twice is made once; of two that overlap or touch, the
// later one is left out: check again, and it is found where it is then. The error says that a declaration
// would not be valid TOML any more, or is [ErrStale].
func Apply(text string, edits []Edit) (string, error) {
	after, err := splice(text, edits)
	if err == nil && slices.ContainsFunc(edits, func(e Edit) bool { return strings.HasSuffix(e.File, ".toml") }) {
		var any map[string]any
		if terr := toml.Unmarshal([]byte(after), &any); terr != nil {
			err = fmt.Errorf("it would not be valid any more: %w", terr)
		}
	}
	return after, err
}

func splice(text string, edits []Edit) (string, error) {
	type span struct {
		from, to int
		text     string
	}
	var spans []span
	for _, e := range edits {
		from, ok := offset(text, e.Line, e.Column)
		to, ok2 := offset(text, e.EndLine, e.EndColumn)
		if !ok || !ok2 || to < from {
			return "", ErrStale
		}
		spans = append(spans, span{from, to, e.Text})
	}
	slices.SortStableFunc(spans, func(a, b span) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	var b strings.Builder
	done := 0
	last := span{-1, -1, ""}
	for _, s := range spans {
		if s == last || s.from < done || s.from == done && last.to > last.from {
			continue
		}
		b.WriteString(text[done:s.from])
		b.WriteString(s.text)
		done, last = s.to, s
	}
	b.WriteString(text[done:])
	return b.String(), nil
}

// offset returns where a line and column are in a text, in bytes.
func offset(text string, line, column int) (int, bool) {
	at := 0
	for range line - 1 {
		i := strings.IndexByte(text[at:], '\n')
		if i < 0 {
			return 0, false
		}
		at += i + 1
	}
	for range column - 1 {
		if at >= len(text) {
			return 0, false
		}
		_, n := utf8.DecodeRuneInString(text[at:])
		at += n
	}
	return at, true
}

// between returns the edit that replaces the bytes from one place to another.
func between(file, text string, from, to int, by string) Edit {
	e := Edit{File: file, Text: by}
	e.Line, e.Column = place(text, from)
	e.EndLine, e.EndColumn = place(text, to)
	return e
}

func place(text string, at int) (line, column int) {
	start := strings.LastIndexByte(text[:at], '\n') + 1
	return strings.Count(text[:at], "\n") + 1, utf8.RuneCountInString(text[start:at]) + 1
}

// item returns where an item of a list is in a text, quotes included.
func item(text string, it decl.Item) (from, to int, ok bool) {
	from, ok = offset(text, it.Pos.Line, it.Pos.Col)
	if !ok {
		return 0, 0, false
	}
	to, ok = offset(text, it.Pos.Line, it.Pos.Col+it.Pos.Width)
	return from, to, ok && to > from && strings.ContainsAny(text[from:from+1], `"'`)
}

// without returns the edit that removes an item from a list, with its comma. The
// other items, and comments, stay as they are.
func without(text string, list []decl.Item, n int) []Edit {
	from, to, ok := item(text, list[n])
	if !ok {
		return nil
	}
	file := list[n].Pos.File
	switch rest := strings.TrimLeft(text[to:], " \t"); {
	case strings.HasPrefix(rest, ","):
		end := len(text) - len(rest) + 1
		after := strings.TrimLeft(text[end:], " \t")
		alone := strings.TrimSpace(text[strings.LastIndexByte(text[:from], '\n')+1:from]) == ""
		if alone && (strings.HasPrefix(after, "\n") || strings.HasPrefix(after, "\r\n")) {
			// It has a line of its own.
			start := strings.LastIndexByte(text[:from], '\n') + 1
			return []Edit{between(file, text, start, len(text)-len(after)+strings.IndexByte(after, '\n')+1, "")}
		}
		return []Edit{between(file, text, from, len(text)-len(after), "")}
	case n > 0:
		if _, end, ok := item(text, list[n-1]); ok && strings.Trim(text[end:from], " \t\r\n,") == "" {
			return []Edit{between(file, text, end, to, "")}
		}
		return nil
	}
	return []Edit{between(file, text, from, to, "")}
}

// with returns the edit that appends an item to a list that has some.
func with(text string, list []decl.Item, quoted string) []Edit {
	last := list[len(list)-1]
	from, to, ok := item(text, last)
	if !ok {
		return nil
	}
	by := ", " + quoted
	start := strings.LastIndexByte(text[:from], '\n') + 1
	if strings.TrimSpace(text[start:from]) == "" { // each item has a line of its own
		by = ending(text) + text[start:from] + quoted
		if rest := strings.TrimLeft(text[to:], " \t"); strings.HasPrefix(rest, ",") {
			at := len(text) - len(rest) + 1
			return []Edit{between(last.Pos.File, text, at, at, by+",")}
		}
		by = "," + by
	}
	return []Edit{between(last.Pos.File, text, to, to, by)}
}

// ending returns how lines end in a text.
func ending(text string) string {
	if strings.Contains(text, "\r\n") {
		return "\r\n"
	}
	return "\n"
}
