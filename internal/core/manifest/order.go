package manifest

import (
	"strings"

	"grayloft.example/grayloft/internal/core/edit"
)

// listed is an entry of a list, with the bytes of its lines, ends of lines included.
type listed struct {
	name     string
	from, to int
	fixed    bool // its lines cannot be moved as they are
}

// misplaced returns the entries that come after one that belongs behind them, by
// name. Blank lines and comments between entries divide a list.
func misplaced(file, text string, list []listed) (out []Misplaced) {
	start := 0
	for i := 1; i < len(list); i++ {
		if list[i-1].to != list[i].from {
			start = i
			continue
		}
		for j := start; j < i; j++ {
			if !comesBefore(list[i].name, list[j].name) {
				continue
			}
			m := Misplaced{File: file, Name: list[i].name, Before: list[j].name}
			lines := text[list[i].from:list[i].to]
			m.Line, m.Column = edit.Place(text, list[i].from+len(lines)-len(strings.TrimLeft(lines, " \t\"'")))
			if !list[i].fixed && strings.HasSuffix(lines, "\n") {
				m.Edits = []edit.Edit{
					edit.Between(file, text, list[j].from, list[j].from, lines),
					edit.Between(file, text, list[i].from, list[i].to, ""),
				}
			}
			out = append(out, m)
			break
		}
	}
	return out
}

func comesBefore(a, b string) bool { return strings.ToLower(a) < strings.ToLower(b) }

// lines returns the bytes of the lines that a range is in.
func lines(text string, from, to int) (start, end int) {
	start = strings.LastIndexByte(text[:from], '\n') + 1
	end = strings.IndexByte(text[to:], '\n')
	if end < 0 {
		return start, len(text)
	}
	return start, to + end + 1
}

// MisplacedKeys returns the keys of the tables of a TOML file that come after one that
// belongs behind them.
func MisplacedKeys(file, text string) (out []Misplaced) {
	values, ok := tomlValues(text)
	if !ok {
		return nil
	}
	tables := map[string][]listed{}
	for _, v := range values {
		if len(v.path) != 2 {
			continue // a table, or a part of an entry
		}
		from, to := lines(text, v.key[0], max(v.to, v.key[1]))
		tables[v.path[0]] = append(tables[v.path[0]], listed{name: v.path[1], from: from, to: to})
	}
	for _, name := range sortedKeys(tables) {
		out = append(out, misplaced(file, text, tables[name])...)
	}
	return out
}
