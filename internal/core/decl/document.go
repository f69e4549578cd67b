package decl

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"grayloft.example/grayloft/internal/core/digest"
)

// document is a TOML file as a tree in which every key and value knows its
// position.
type document struct {
	file  string
	sum   digest.Digest // of its text
	lines []string
	root  *table
}

type table struct {
	pos     Pos
	entries []*entry
	byKey   map[string]*entry
}

type entry struct {
	key string
	pos Pos
	val value
}

type value struct {
	pos   Pos
	kind  unstable.Kind
	text  string // strings, and the source of numbers
	truth bool
	list  []value
	table *table
}

func (v value) name() string {
	switch v.kind {
	case unstable.String:
		return "a string"
	case unstable.Bool:
		return "true or false"
	case unstable.Integer:
		return "a whole number"
	case unstable.Float:
		return "a number"
	case unstable.Array:
		return "a list"
	case unstable.Table, unstable.InlineTable:
		return "a table"
	case unstable.ArrayTable:
		return "a list of tables"
	}
	return "a date or time"
}

func newTable(pos Pos) *table { return &table{pos: pos, byKey: map[string]*entry{}} }

func (t *table) put(key string, pos Pos, v value) {
	e := &entry{key: key, pos: pos, val: v}
	t.entries = append(t.entries, e)
	t.byKey[key] = e
}

// parse reads TOML 1.0. If the text is not valid TOML, it returns the one
// problem that stopped the parser. Ends of line are "\n" in all values, as TOML
// allows: a checkout with others has the same keys, and a shell reads its commands.
func parse(file string, data []byte) (*document, *Problem) {
	data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	doc := &document{file: file, sum: digest.Of(data), lines: strings.Split(string(data), "\n"), root: newTable(Pos{File: file})}
	if !utf8.Valid(data) {
		return doc, &Problem{Pos: Pos{File: file}, Message: "the file is not UTF-8", Advice: "save it as UTF-8"}
	}
	if bytes.HasPrefix(data, []byte("\ufeff")) {
		at := Pos{File: file}
		return doc, &Problem{Pos: at, Message: "the file begins with a byte-order mark", Advice: "save it as UTF-8 without one"}
	}
	// Decoding into nothing finds invalid TOML and duplicate keys and tables.
	var nothing struct{}
	if err := toml.Unmarshal(data, &nothing); err != nil {
		p := Problem{Pos: Pos{File: file}, Message: err.Error(), Advice: "fix the TOML here"}
		var de *toml.DecodeError
		if errors.As(err, &de) {
			p.Line, p.Col = de.Position()
			p.Width = 1
			p.Message = strings.TrimPrefix(de.Error(), "toml: ")
		}
		return doc, doc.problem(p)
	}
	p := parsers.Get().(*unstable.Parser)
	defer parsers.Put(p)
	p.Reset(data)
	b := builder{doc: doc, data: data, p: p}
	at := doc.root
	for b.p.NextExpression() {
		e := b.p.Expression()
		switch e.Kind {
		case unstable.KeyValue:
			b.keyValue(at, e)
		case unstable.Table, unstable.ArrayTable:
			at = b.header(e)
		}
	}
	return doc, nil
}

// parsers are used again: each keeps room for the nodes of a document.
var parsers = sync.Pool{New: func() any { return new(unstable.Parser) }}

func (d *document) problem(p Problem) *Problem {
	p.File = d.file
	if p.Line > 0 && p.Line <= len(d.lines) {
		p.Source = d.lines[p.Line-1]
	}
	return &p
}

type builder struct {
	starts []int // of the lines
	doc    *document
	data   []byte
	p      *unstable.Parser
	kind   string // whose table is being read
}

func (b *builder) pos(r unstable.Range) Pos {
	if r.Length == 0 {
		return Pos{File: b.doc.file}
	}
	text := b.data[r.Offset : r.Offset+r.Length]
	if i := bytes.IndexByte(text, '\n'); i >= 0 {
		text = text[:i]
	}
	n, start := b.line(int(r.Offset))
	line := b.doc.lines[n]
	col := utf8.RuneCountInString(line[:min(int(r.Offset)-start, len(line))]) + 1
	return Pos{File: b.doc.file, Line: n + 1, Col: col, Width: utf8.RuneCount(text), Kind: b.kind}
}

// line returns the number (from 0) and the start of the line that contains an
// offset.
func (b *builder) line(offset int) (n, start int) {
	if b.starts == nil {
		at := 0
		for _, l := range b.doc.lines {
			b.starts = append(b.starts, at)
			at += len(l) + 1
		}
	}
	n, found := slices.BinarySearch(b.starts, offset)
	if !found {
		n--
	}
	return n, b.starts[n]
}

func (b *builder) header(e *unstable.Node) *table {
	at := b.doc.root
	b.kind = kindOf(e.Key())
	it := e.Key()
	for it.Next() {
		k := it.Node()
		at = b.child(at, string(k.Data), b.pos(k.Raw), e.Kind == unstable.ArrayTable && it.IsLast())
	}
	return at
}

// kindOf returns the name of the kind whose table a key is in, or "".
func kindOf(it unstable.Iterator) string {
	if !it.Next() || string(it.Node().Data) != "kind" || !it.Next() {
		return ""
	}
	return string(it.Node().Data)
}

func (b *builder) child(at *table, key string, pos Pos, array bool) *table {
	if have, ok := at.byKey[key]; ok && have.val.table != nil && !array {
		return have.val.table
	}
	t := newTable(pos)
	kind := unstable.Table
	if array {
		kind = unstable.ArrayTable
	}
	at.put(key, pos, value{pos: pos, kind: kind, table: t})
	return t
}

func (b *builder) keyValue(at *table, e *unstable.Node) {
	if at == b.doc.root {
		b.kind = kindOf(e.Key())
	}
	it := e.Key()
	for it.Next() {
		k := it.Node()
		pos := b.pos(k.Raw)
		if it.IsLast() {
			at.put(string(k.Data), pos, b.value(e.Value(), pos))
			return
		}
		at = b.child(at, string(k.Data), pos, false)
	}
}

func (b *builder) value(n *unstable.Node, fallback Pos) value {
	v := value{pos: fallback, kind: n.Kind, text: string(n.Data)}
	if n.Raw.Length > 0 {
		v.pos = b.pos(n.Raw)
	} else if len(n.Data) > 0 && n.Kind != unstable.Array && n.Kind != unstable.InlineTable {
		v.pos = b.pos(b.p.Range(n.Data))
	}
	switch n.Kind {
	case unstable.Bool:
		v.truth = string(n.Data) == "true"
	case unstable.Array:
		for it := n.Children(); it.Next(); {
			v.list = append(v.list, b.value(it.Node(), fallback))
		}
	case unstable.InlineTable:
		v.table = newTable(v.pos)
		for it := n.Children(); it.Next(); {
			b.keyValue(v.table, it.Node())
		}
	}
	return v
}
