package check

import (
	"bytes"
	"encoding/json"
	"path"
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
	return p, true
}

// isObject tells whether the next value is an object.
func isObject(text string, d *json.Decoder) bool {
	return strings.HasPrefix(strings.TrimLeft(text[d.InputOffset():], " \t\r\n:"), "{")
}

func (p *npmPackage) readList(d *json.Decoder, text string, list scope) bool {
	if _, err := d.Token(); err != nil {
		return false
	}
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
		p.entries = append(p.entries, e)
		ends = append(ends, [2]int{start, int(d.InputOffset())})
	}
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
