package drift

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// many is how many lines that differ in one part become one.
const many = 4

// shorten replaces lines that name files, and differ only in one part of the path, by a
// pattern: files of one directory with the same extension, or files of the same name in
// directories beside each other. The largest groups come first.
func shorten(list []Finding) []Finding {
	groups := map[string][]int{} // of findings, by key and pattern
	for i, f := range list {
		for _, pattern := range patterns(f) {
			groups[f.Key+"\x00"+pattern] = append(groups[f.Key+"\x00"+pattern], i)
		}
	}
	order := slices.Collect(maps.Keys(groups))
	slices.SortFunc(order, func(a, b string) int {
		return cmp.Or(
			cmp.Compare(len(groups[b]), len(groups[a])),
			cmp.Compare(strings.Index(b, "*"), strings.Index(a, "*")),
			cmp.Compare(a, b),
		)
	})
	gone := map[int]bool{}
	out := slices.Clone(list)
	for _, name := range order {
		members := slices.DeleteFunc(groups[name], func(i int) bool { return gone[i] })
		if len(members) < many {
			continue
		}
		_, pattern, _ := strings.Cut(name, "\x00")
		first := &out[members[0]]
		first.Why = fmt.Sprintf("%s and %d more like it", first.Why, len(members)-1)
		first.Line = fmt.Sprintf("%q", pattern)
		gone[members[0]] = true
		for _, i := range members[1:] {
			gone[i] = true
			if room := 10 - len(first.Of); room > 0 {
				first.Of = append(first.Of, list[i].Of[:min(room, len(list[i].Of))]...)
			}
			out[i].Line = ""
		}
	}
	return slices.DeleteFunc(out, func(f Finding) bool { return f.Line == "" })
}

// patterns returns the line of a finding with each part of its path replaced by a star
// in turn; the last part keeps its extension.
func patterns(f Finding) (out []string) {
	name := strings.Trim(f.Line, `"`)
	if !slices.Contains([]string{"reads", "writes", "opens"}, f.Key) || strings.ContainsAny(name, `*?[{\`) {
		return nil
	}
	scope := ""
	if rest, ok := strings.CutPrefix(name, "repo:"); ok {
		scope, name = "repo:", rest
	}
	parts := strings.Split(name, "/")
	for i, p := range parts {
		with := slices.Clone(parts)
		with[i] = "*"
		if i == len(parts)-1 {
			with[i] += path.Ext(p)
		}
		out = append(out, scope+strings.Join(with, "/"))
	}
	return out
}
