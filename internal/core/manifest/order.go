package manifest

import (
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/edit"
)

// listed is an entry of a list, with the bytes of its lines, ends of lines included.
type listed struct {
	name     string
	from, to int
	fixed    bool // its lines cannot be moved as they are
}

// keptInOrder is the share of the entries of a list that may be out of order in one that
// is kept in order: a third. Of other lists, nothing is said.
const keptInOrder = 3

// misplaced returns the entries that are out of order, by name, in lists that are kept in
// order. Blank lines and comments between entries divide a list.
func misplaced(file, text string, list []listed) (out []Misplaced) {
	start := 0
	for i := 1; i <= len(list); i++ {
		if i == len(list) || list[i-1].to != list[i].from {
			out = append(out, misplacedIn(file, text, list[start:i])...)
			start = i
		}
	}
	return out
}

func misplacedIn(file, text string, list []listed) (out []Misplaced) {
	ordered := longestOrdered(list)
	if (len(list)-len(ordered))*keptInOrder > len(list) {
		return nil
	}
	for i, e := range list {
		if slices.Contains(ordered, i) {
			continue
		}
		m := Misplaced{File: file, Name: e.name}
		lines := text[e.from:e.to]
		m.Line, m.Column = edit.Place(text, e.from+len(lines)-len(strings.TrimLeft(lines, " \t\"'")))
		at := slices.IndexFunc(ordered, func(j int) bool { return comesBefore(e.name, list[j].name) })
		place := list[ordered[len(ordered)-1]].to
		if at >= 0 {
			m.Before, place = list[ordered[at]].name, list[ordered[at]].from
		} else {
			m.After = list[ordered[len(ordered)-1]].name
		}
		if !e.fixed && strings.HasSuffix(text[:place], "\n") && strings.HasSuffix(lines, "\n") {
			m.Edits = []edit.Edit{edit.Between(file, text, place, place, lines), edit.Between(file, text, e.from, e.to, "")}
		}
		out = append(out, m)
	}
	return out
}

// longestOrdered returns the most entries of a list that are in order, by their numbers.
func longestOrdered(list []listed) []int {
	length, before := make([]int, len(list)), make([]int, len(list)) // of the best that ends with each entry
	last := -1
	for i := range list {
		length[i], before[i] = 1, -1
		for j := range i {
			if length[j] >= length[i] && !comesBefore(list[i].name, list[j].name) {
				length[i], before[i] = length[j]+1, j
			}
		}
		if last < 0 || length[i] > length[last] {
			last = i
		}
	}
	var out []int
	for ; last >= 0; last = before[last] {
		out = append(out, last)
	}
	slices.Reverse(out)
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

// MisplacedKeys returns the keys of the tables of a TOML file that are out of order.
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
