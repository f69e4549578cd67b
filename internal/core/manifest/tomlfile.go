package manifest

import (
	"github.com/pelletier/go-toml/v2/unstable"
)

// tomlValue is a value of a TOML file with its place.
type tomlValue struct {
	path     []string // of tables and keys
	key      [2]int   // the last part of the key, in bytes
	from, to int      // the value; of a table in several lines, empty
	text     string   // of a string, number or boolean
	items    []tomlValue
	kind     unstable.Kind
}

// tomlValues returns the tables and values of a TOML file, those of inline tables too, in
// order of appearance; not ok if it cannot be parsed.
func tomlValues(text string) (out []tomlValue, ok bool) {
	p := unstable.Parser{}
	p.Reset([]byte(text))
	var table []string
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			var last unstable.Range
			table, last = tomlKey(e.Key())
			at := int(last.Offset)
			out = append(out, tomlValue{path: table, key: [2]int{at, at + int(last.Length)}, from: at, to: at, kind: e.Kind})
		case unstable.KeyValue:
			r := tomlReader{&p, text}
			out = append(out, r.pair(table, e)...)
		}
	}
	return out, p.Error() == nil
}

func tomlKey(it unstable.Iterator) (path []string, last unstable.Range) {
	for it.Next() {
		path = append(path, string(it.Node().Data))
		last = it.Node().Raw
	}
	return path, last
}

type tomlReader struct {
	p    *unstable.Parser
	text string
}

func (r tomlReader) pair(table []string, e *unstable.Node) []tomlValue {
	key, last := tomlKey(e.Key())
	v := r.value(e.Value())
	v.path = append(append([]string{}, table...), key...)
	v.key = [2]int{int(last.Offset), int(last.Offset + last.Length)}
	if v.to == 0 {
		v.from, v.to = v.key[1], v.key[1]
	}
	out := []tomlValue{v}
	if e.Value().Kind == unstable.InlineTable {
		for it := e.Value().Children(); it.Next(); {
			inner := r.pair(v.path, it.Node())
			out[0].to = max(out[0].to, inner[0].to)
			out = append(out, inner...)
		}
	}
	return out
}

// value returns a value with its place. Of an array, the place is that of its first
// to its last item.
func (r tomlReader) value(n *unstable.Node) tomlValue {
	v := tomlValue{kind: n.Kind, text: string(n.Data)}
	switch n.Kind {
	case unstable.String:
		v.from, v.to = int(n.Raw.Offset), int(n.Raw.Offset+n.Raw.Length)
	case unstable.Array:
		for it := n.Children(); it.Next(); {
			item := r.value(it.Node())
			v.items = append(v.items, item)
			if len(v.items) == 1 {
				v.from = item.from
			}
			v.to = max(v.to, item.to)
		}
	case unstable.InlineTable:
	default:
		v.from, v.to = int(n.Raw.Offset), int(n.Raw.Offset+n.Raw.Length)
	}
	return v
}
