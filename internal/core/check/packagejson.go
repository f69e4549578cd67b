package check

import (
	"bytes"
	"encoding/json"
	"path"
	"slices"
	"strings"
)

// readPackage reads a manifest with the places of its entries.
func readPackage(file, text string) (npmPackage, bool) {
	p := npmPackage{dir: path.Dir(file), file: file}
	var head struct {
		Name    string            `json:"name"`
		Private bool              `json:"private"`
		Scripts map[string]string `json:"scripts"`
	}
	if json.Unmarshal([]byte(text), &head) != nil {
		return p, false
	}
	p.name, p.private = head.Name, head.Private
	for _, s := range head.Scripts {
		p.scripts += s + "\n"
	}
	d := json.NewDecoder(bytes.NewReader([]byte(text)))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return p, false
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return p, false
		}
		list, isList := npmLists[key.(string)]
		if !isList || !isObject(text, d) {
			var skip json.RawMessage
			if d.Decode(&skip) != nil {
				return p, false
			}
			continue
		}
		if !p.readList(d, text, list) {
			return p, false
		}
	}
	for i := range p.entries {
		p.entries[i].move = p.moved(text, p.entries[i])
	}
	return p, true
}

// jsonList is one of the lists of a manifest, with the places of its members: of the
// name's start, and the value's end.
type jsonList struct {
	scope   scope
	open    int // after the bracket
	members [][2]int
}

// moved returns the edits that put an entry into the list of the other scope, at its
// place by name; none if there is no such list, or it is empty.
func (p *npmPackage) moved(text string, e entry) []Edit {
	to := map[scope]scope{shipped: development, development: shipped}
	target, ok := to[e.scope]
	i := slices.IndexFunc(p.lists, func(l jsonList) bool { return l.scope == target && len(l.members) > 0 })
	if !ok || i < 0 {
		return nil
	}
	l := p.lists[i]
	gap := text[l.open:l.members[0][0]]
	if gap == "" || gap == " " {
		gap = " "
	}
	for _, m := range l.members {
		if text[m[0]:m[1]] > e.written {
			return append(slices.Clone(e.remove), between(p.file, text, m[0], m[0], e.written+","+gap))
		}
	}
	end := l.members[len(l.members)-1][1]
	return append(slices.Clone(e.remove), between(p.file, text, end, end, ","+gap+e.written))
}

// isObject tells whether the next value is an object.
func isObject(text string, d *json.Decoder) bool {
	return strings.HasPrefix(strings.TrimLeft(text[d.InputOffset():], " \t\r\n:"), "{")
}

func (p *npmPackage) readList(d *json.Decoder, text string, list scope) bool {
	if _, err := d.Token(); err != nil {
		return false
	}
	open := int(d.InputOffset())
	var ends [][2]int // of each member: its name's start, its value's end
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return false
		}
		end := int(d.InputOffset())
		start := strings.LastIndexByte(text[:end-1], '"')
		var value json.RawMessage
		if d.Decode(&value) != nil {
			return false
		}
		e := entry{name: name.(string), scope: list, setVersion: func(string) []Edit { return nil }}
		valueEnd := int(d.InputOffset())
		if _ = json.Unmarshal(value, &e.version); e.version != "" {
			prefix := e.version[:len(e.version)-len(strings.TrimLeft(e.version, "^~"))]
			e.setVersion = func(version string) []Edit {
				return []Edit{between(p.file, text, valueEnd-len(value), valueEnd, `"`+prefix+version+`"`)}
			}
		}
		e.line, e.column = place(text, start)
		e.written = text[start:valueEnd]
		p.entries = append(p.entries, e)
		ends = append(ends, [2]int{start, valueEnd})
	}
	p.lists = append(p.lists, jsonList{list, open, ends})
	for i := range ends {
		e := &p.entries[len(p.entries)-len(ends)+i]
		e.remove = removeMember(p.file, text, ends, i)
	}
	_, err := d.Token()
	return err == nil
}

// removeMember returns the edit that takes a member out of an object, with its comma
// and, if it has one of its own, its line.
func removeMember(file, text string, members [][2]int, i int) []Edit {
	if i+1 < len(members) {
		return []Edit{between(file, text, members[i][0], members[i+1][0], "")}
	}
	if i > 0 {
		return []Edit{between(file, text, members[i-1][1], members[i][1], "")}
	}
	return []Edit{between(file, text, members[i][0], members[i][1], "")}
}
