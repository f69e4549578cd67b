package manifest

import (
	"bytes"
	"encoding/json"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/edit"
)

// readPackage reads a manifest with the places of its entries.
func readPackage(file, text string) (npmPackage, bool) {
	p := npmPackage{dir: path.Dir(file), file: file}
	var head struct {
		Name    string            `json:"name"`
		Private bool              `json:"private"`
		Scripts map[string]string `json:"scripts"`
		Main    json.RawMessage   `json:"main"`
		Module  json.RawMessage   `json:"module"`
		Bin     json.RawMessage   `json:"bin"`
		Exports json.RawMessage   `json:"exports"`
	}
	if json.Unmarshal([]byte(text), &head) != nil {
		return p, false
	}
	p.name, p.private = head.Name, head.Private
	for _, e := range []json.RawMessage{head.Main, head.Module, head.Bin, head.Exports} {
		p.entry += string(e) + "\n"
	}
	p.scripts = head.Scripts
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
	if p.name == "" && p.entries == nil && len(p.scripts) == 0 {
		return p, false // it only says how the files beside it are read
	}
	p.declared = map[string]bool{}
	for i := range p.entries {
		p.declared[p.entries[i].Name] = true
		p.entries[i].Move = p.moved(text, p.entries[i])
	}
	return p, true
}

// jsonList is one of the lists of a manifest, with the places of its members: of the
// name's start, and the value's end.
type jsonList struct {
	scope       Scope
	open, close int // after the brackets
	members     [][2]int
}

// moved returns the edits that put an entry into the list of the other scope, at its
// place by name; into a new list after its own if there is none. There are none if the
// other list is empty.
func (p *npmPackage) moved(text string, e Entry) []edit.Edit {
	names := map[Scope]string{Development: "devDependencies", Shipped: "dependencies"}
	target, ok := map[Scope]Scope{Shipped: Development, Development: Shipped}[e.Scope]
	if !ok {
		return nil
	}
	list := func(of Scope) int { return slices.IndexFunc(p.lists, func(l jsonList) bool { return l.scope == of }) }
	i := list(target)
	if i < 0 {
		own := p.lists[list(e.Scope)]
		gap := own.gap(text)
		line := " "
		if outer, ok := strings.CutPrefix(gap, edit.Ending(text)); ok {
			line = edit.Ending(text) + outer[:len(outer)/2]
		}
		written := "," + line + `"` + names[target] + `": {` + strings.TrimPrefix(
			gap,
			" ",
		) + e.written + strings.TrimPrefix(
			line,
			" ",
		) + "}"
		return append(slices.Clone(e.Remove), edit.Between(p.file, text, own.close, own.close, written))
	}
	if len(p.lists[i].members) == 0 {
		return nil
	}
	l := p.lists[i]
	for _, m := range l.members {
		if text[m[0]:m[1]] > e.written {
			return append(slices.Clone(e.Remove), edit.Between(p.file, text, m[0], m[0], e.written+","+l.gap(text)))
		}
	}
	end := l.members[len(l.members)-1][1]
	return append(slices.Clone(e.Remove), edit.Between(p.file, text, end, end, ","+l.gap(text)+e.written))
}

// gap returns what is between the members of a list.
func (l jsonList) gap(text string) string {
	if gap := text[l.open:l.members[0][0]]; gap != "" {
		return gap
	}
	return " "
}

// isObject tells whether the next value is an object.
func isObject(text string, d *json.Decoder) bool {
	return strings.HasPrefix(strings.TrimLeft(text[d.InputOffset():], " \t\r\n:"), "{")
}

func (p *npmPackage) readList(d *json.Decoder, text string, list Scope) bool {
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
		e := Entry{Name: name.(string), Scope: list}
		valueEnd := int(d.InputOffset())
		if _ = json.Unmarshal(value, &e.Version); e.Version != "" {
			prefix := e.Version[:len(e.Version)-len(strings.TrimLeft(e.Version, "^~"))]
			e.setVersion = func(version string) []edit.Edit {
				return []edit.Edit{edit.Between(p.file, text, valueEnd-len(value), valueEnd, `"`+prefix+version+`"`)}
			}
		}
		e.Line, e.Column = edit.Place(text, start)
		e.written = text[start:valueEnd]
		p.entries = append(p.entries, e)
		ends = append(ends, [2]int{start, valueEnd})
	}
	for i := range ends {
		e := &p.entries[len(p.entries)-len(ends)+i]
		e.Remove = removeMember(p.file, text, ends, i)
	}
	_, err := d.Token()
	p.lists = append(p.lists, jsonList{list, open, int(d.InputOffset()), ends})
	return err == nil
}

// removeMember returns the edit that takes a member out of an object, with its comma
// and, if it has one of its own, its line.
func removeMember(file, text string, members [][2]int, i int) []edit.Edit {
	if i+1 < len(members) {
		return []edit.Edit{edit.Between(file, text, members[i][0], members[i+1][0], "")}
	}
	if i > 0 {
		return []edit.Edit{edit.Between(file, text, members[i-1][1], members[i][1], "")}
	}
	return []edit.Edit{edit.Between(file, text, members[i][0], members[i][1], "")}
}
