package check

import (
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/edit"
)

// ranges returns where the items of a list are in a text, quotes included.
func ranges(text string, list []decl.Item) (out [][2]int, ok bool) {
	for _, it := range list {
		from, ok := edit.Offset(text, it.Pos.Line, it.Pos.Col)
		to, ok2 := edit.Offset(text, it.Pos.Line, it.Pos.Col+it.Pos.Width)
		if !ok || !ok2 || to <= from || !strings.ContainsAny(text[from:from+1], `"'`) {
			return nil, false
		}
		out = append(out, [2]int{from, to})
	}
	return out, true
}

// without returns the edit that removes an item from a list of a declaration.
func without(text string, list []decl.Item, n int) []edit.Edit {
	items, ok := ranges(text, list)
	if !ok {
		return nil
	}
	return edit.Without(list[n].Pos.File, text, items, n)
}

// with returns the edit that appends an item to a list of a declaration that has
// some.
func with(text string, list []decl.Item, quoted string) []edit.Edit {
	items, ok := ranges(text, list)
	if !ok {
		return nil
	}
	return edit.With(list[0].Pos.File, text, items, quoted)
}
