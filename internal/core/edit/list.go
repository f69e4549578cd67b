package edit

import "strings"

// Without returns the edits that remove an item from a list in brackets, with its
// comma and, if it has one of its own, its line. The other items, and comments, stay
// as they are. The items are given by their start and end; none is returned if that
// cannot be done.
func Without(file, text string, items [][2]int, n int) []Edit {
	from, to := items[n][0], items[n][1]
	switch rest := strings.TrimLeft(text[to:], " \t"); {
	case strings.HasPrefix(rest, ","):
		end := len(text) - len(rest) + 1
		after := strings.TrimLeft(text[end:], " \t")
		alone := strings.TrimSpace(text[lineStart(text, from):from]) == ""
		if alone && (strings.HasPrefix(after, "\n") || strings.HasPrefix(after, "\r\n")) {
			return []Edit{Between(file, text, lineStart(text, from), len(text)-len(after)+strings.IndexByte(after, '\n')+1, "")}
		}
		return []Edit{Between(file, text, from, len(text)-len(after), "")}
	case n > 0:
		if end := items[n-1][1]; strings.Trim(text[end:from], " \t\r\n,") == "" {
			return []Edit{Between(file, text, end, to, "")}
		}
		return nil
	}
	return []Edit{Between(file, text, from, to, "")}
}

// With returns the edits that append an item, as it is written, to a list that has
// some.
func With(file, text string, items [][2]int, written string) []Edit {
	from, to := items[len(items)-1][0], items[len(items)-1][1]
	by := ", " + written
	start := lineStart(text, from)
	if strings.TrimSpace(text[start:from]) == "" { // each item has a line of its own
		by = Ending(text) + text[start:from] + written
		if rest := strings.TrimLeft(text[to:], " \t"); strings.HasPrefix(rest, ",") {
			at := len(text) - len(rest) + 1
			return []Edit{Between(file, text, at, at, by+",")}
		}
		by = "," + by
	}
	return []Edit{Between(file, text, to, to, by)}
}

// InOrder returns the edits that put an item, as it is written, into a list that has
// some, before the first one that comes after it.
func InOrder(file, text string, items [][2]int, written string) []Edit {
	for _, m := range items {
		if strings.ToLower(text[m[0]:m[1]]) > strings.ToLower(written) {
			gap := " "
			if start := lineStart(text, m[0]); strings.TrimSpace(text[start:m[0]]) == "" {
				gap = Ending(text) + text[start:m[0]]
			}
			return []Edit{Between(file, text, m[0], m[0], written+","+gap)}
		}
	}
	return With(file, text, items, written)
}

func lineStart(text string, at int) int { return strings.LastIndexByte(text[:at], '\n') + 1 }
