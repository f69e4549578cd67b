// Package edit changes texts at places that are given by line and column. Bytes
// outside an edit stay as they are. It works on texts, and reads and writes no file.
package edit

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

func (e Edit) inserts() bool { return e.Line == e.EndLine && e.Column == e.EndColumn }

// ErrStale is returned for an edit whose place is not in the text: the file changed
// since the edit was made.
var ErrStale = errors.New("it changed since it was read")

// Apply makes changes in the text of a file: the edits of a change all or none. A
// change that is a single edit and is there twice is made once; a change with an edit
// that touches an earlier one's is left out. It returns how many changes were applied. The error says
// that the file would not be valid TOML or JSON any more, or is [ErrStale].
func Apply(file, text string, changes [][]Edit) (after string, applied int, err error) {
	var made []span
	alone := map[span]bool{} // the edits of changes that have no other
	ordered := slices.Clone(changes)
	slices.SortStableFunc(ordered, func(a, b []Edit) int { return cmp.Compare(additions(a), additions(b)) })
	for _, c := range ordered {
		spans, err := spansOf(file, text, c)
		if err != nil {
			return "", 0, err
		}
		switch {
		case len(spans) == 1 && alone[spans[0]]:
			applied++
		case len(spans) > 0 && !slices.ContainsFunc(spans, func(s span) bool { return s.touches(made) }):
			applied++
			made = append(made, spans...)
			if len(spans) == 1 {
				alone[spans[0]] = true
			}
		}
	}
	if len(made) == 0 {
		return text, 0, nil
	}
	after = splice(text, made)
	return after, applied, valid(file, after)
}

// additions is 1 for a change that only adds something. What is removed goes first,
// so that nothing is added beside it.
func additions(change []Edit) int {
	if slices.ContainsFunc(change, func(e Edit) bool { return !e.inserts() }) {
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
		from, ok := Offset(text, e.Line, e.Column)
		to, ok2 := Offset(text, e.EndLine, e.EndColumn)
		if !ok || !ok2 || to < from {
			return nil, ErrStale
		}
		out = append(out, span{from, to, e.Text})
	}
	return out, nil
}

// touches tells whether a span overlaps or borders on another one. Insertions at
// one place follow each other.
func (s span) touches(made []span) bool {
	return slices.ContainsFunc(made, func(o span) bool {
		if s.from == s.to && o.from == o.to && s != o {
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

// Offset returns where a line and column are in a text, in bytes.
func Offset(text string, line, column int) (int, bool) {
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

// Between returns the edit that replaces the bytes from one place to another.
func Between(file, text string, from, to int, by string) Edit {
	e := Edit{File: file, Text: by}
	e.Line, e.Column = Place(text, from)
	e.EndLine, e.EndColumn = Place(text, to)
	return e
}

// Place returns the line and column of a byte of a text.
func Place(text string, at int) (line, column int) {
	start := strings.LastIndexByte(text[:at], '\n') + 1
	return strings.Count(text[:at], "\n") + 1, utf8.RuneCountInString(text[start:at]) + 1
}

// Ending returns how lines end in a text.
func Ending(text string) string {
	if strings.Contains(text, "\r\n") {
		return "\r\n"
	}
	return "\n"
}
