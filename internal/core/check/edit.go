package check

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"path"
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

// Apply makes the edits of findings in the text of a file: those of a finding all or
// none. Bytes outside of them stay as they are. An edit that is there twice is made
// once; a finding with an edit that touches an earlier one's is left out: check
// again, and it is found where it is then. It returns how many findings were applied.
// The error says that the file would not be valid TOML or JSON any more, or is
// [ErrStale].
func Apply(file, text string, findings []Finding) (after string, applied int, err error) {
	var made []span
	ordered := slices.Clone(findings)
	slices.SortStableFunc(ordered, func(a, b Finding) int { return cmp.Compare(additions(a), additions(b)) })
	for _, f := range ordered {
		spans, err := spansOf(file, text, f.Edits)
		if err != nil {
			return "", 0, err
		}
		if len(spans) > 0 && !slices.ContainsFunc(spans, func(s span) bool { return s.touches(made) }) {
			applied++
			for _, s := range spans {
				if !slices.Contains(made, s) {
					made = append(made, s)
				}
			}
		}
	}
	if len(made) == 0 {
		return text, 0, nil
	}
	after = splice(text, made)
	return after, applied, valid(file, after)
}

// additions is 1 for a finding that only adds something. What is removed goes first,
// so that nothing is added beside it.
func additions(f Finding) int {
	if slices.ContainsFunc(f.Edits, func(e Edit) bool { return e.Line != e.EndLine || e.Column != e.EndColumn }) {
		return 0
	}
	return 1
}

// valid tells whether a declaration, or a manifest, can be read.
func valid(file, text string) (err error) {
	var any map[string]any
	switch path.Ext(file) {
	case ".toml":
		err = toml.Unmarshal([]byte(text), &any)
	case ".json":
		err = json.Unmarshal([]byte(text), &any)
	}
	if err != nil {
		err = fmt.Errorf("it would not be valid any more: %w", err)
	}
	return err
}

// span is an edit by bytes.
type span struct {
	from, to int
	text     string
}

func spansOf(file, text string, edits []Edit) (out []span, err error) {
	for _, e := range edits {
		if e.File != file {
			continue
		}
		from, ok := offset(text, e.Line, e.Column)
		to, ok2 := offset(text, e.EndLine, e.EndColumn)
		if !ok || !ok2 || to < from {
			return nil, ErrStale
		}
		out = append(out, span{from, to, e.Text})
	}
	return out, nil
}

// touches tells whether a span overlaps or borders on another one. Insertions at
// one place follow each other, and a span does not touch itself.
func (s span) touches(made []span) bool {
	return slices.ContainsFunc(made, func(o span) bool {
		if s == o || s.from == s.to && o.from == o.to {
			return false
		}
		return s.from <= o.to && o.from <= s.to
	})
}

func splice(text string, spans []span) string {
	slices.SortStableFunc(spans, func(a, b span) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	var b strings.Builder
	done := 0
	for _, s := range spans {
		b.WriteString(text[done:s.from])
		b.WriteString(s.text)
		done = s.to
	}
	b.WriteString(text[done:])
	return b.String()
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
