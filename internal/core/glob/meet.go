package glob

import (
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Meets tells whether some path can match both patterns. It may report a
// meeting of two character classes that have nothing in common. A pattern whose
// last segment looks like a file name ("*.go", "rates.json") is taken to match
// files only, so "**/*.go" does not meet the files below a directory named
// "rates.json"; such a directory is written "rates.json/**".
func (p Pattern) Meets(q Pattern) bool {
	for _, a := range p.alts {
		for _, b := range q.alts {
			if meetPaths(strings.Split(deepen(a), "/"), strings.Split(deepen(b), "/")) {
				return true
			}
		}
	}
	return false
}

// deepen makes a pattern also match everything below it, unless it names files.
func deepen(alt string) string {
	base := path.Base(alt)
	if i := strings.LastIndexByte(base, '.'); i > 0 && i < len(base)-1 && !strings.ContainsAny(base[i:], "*?[") {
		return alt
	}
	return alt + "/**"
}

// Covers tells whether every path that q matches also matches p. It matches p
// against sample paths made from q, with names in place of its wildcards that
// no pattern contains, so that only p's own wildcards can match them.
func (p Pattern) Covers(q Pattern) bool {
	if p.text == q.text {
		return p.text != ""
	}
	for _, alt := range q.alts {
		for _, w := range witnesses(alt) {
			if !doublestar.MatchUnvalidated(p.deep, w) {
				return false
			}
		}
	}
	return p.text != "" && len(q.alts) > 0
}

const odd = "\u2060q\u2060" // does not occur in any pattern that a person writes

func witnesses(alt string) []string {
	out := []string{""}
	for i, seg := range strings.Split(alt, "/") {
		var forms []string
		if seg == "**" {
			forms = []string{"", odd, odd + "/" + odd}
		} else {
			forms = []string{fill(seg)}
		}
		var next []string
		for _, head := range out {
			for _, f := range forms {
				switch {
				case f == "":
					next = append(next, head)
				case i == 0 || head == "":
					next = append(next, f)
				default:
					next = append(next, head+"/"+f)
				}
			}
		}
		out = next
	}
	kept := out[:0]
	for _, w := range out {
		if w != "" {
			kept = append(kept, w)
		}
	}
	return kept
}

func fill(seg string) string {
	var b strings.Builder
	for _, t := range tokens(seg) {
		switch t.kind {
		case literal:
			b.WriteRune(t.r)
		case class:
			b.WriteRune('\u2060') // errs on the side of "does not cover"
		case star:
			b.WriteString(odd)
		case single:
			b.WriteRune('\u2060')
		}
	}
	return b.String()
}

func meetPaths(a, b []string) bool {
	seen := map[[2]int]bool{}
	var walk func(i, j int) bool
	walk = func(i, j int) bool {
		if i == len(a) && j == len(b) {
			return true
		}
		at := [2]int{i, j}
		if seen[at] {
			return false
		}
		seen[at] = true
		if i < len(a) && a[i] == "**" && (walk(i+1, j) || (j < len(b) && walk(i, j+1))) {
			return true
		}
		if j < len(b) && b[j] == "**" && (walk(i, j+1) || (i < len(a) && walk(i+1, j))) {
			return true
		}
		return i < len(a) && j < len(b) && a[i] != "**" && b[j] != "**" &&
			meetSegments(tokens(a[i]), tokens(b[j])) && walk(i+1, j+1)
	}
	return walk(0, 0)
}

type tokenKind int

const (
	literal tokenKind = iota
	single
	star
	class
)

type token struct {
	kind tokenKind
	r    rune
	text string // a class as written, brackets included
}

func (t token) has(r rune) bool {
	switch t.kind {
	case literal:
		return t.r == r
	case class:
		return r != '/' && doublestar.MatchUnvalidated(t.text, string(r))
	}
	return true
}

func tokens(seg string) []token {
	var out []token
	rs := []rune(seg)
	for i := 0; i < len(rs); i++ {
		switch rs[i] {
		case '*':
			if len(out) == 0 || out[len(out)-1].kind != star {
				out = append(out, token{kind: star})
			}
		case '?':
			out = append(out, token{kind: single})
		case '[':
			end := i + 1
			for end < len(rs) && (rs[end] != ']' || end == i+1) {
				if rs[end] == '\\' {
					end++
				}
				end++
			}
			out = append(out, token{kind: class, text: string(rs[i:min(end+1, len(rs))])})
			i = end
		case '\\':
			if i+1 < len(rs) {
				i++
			}
			fallthrough
		default:
			out = append(out, token{kind: literal, r: rs[i]})
		}
	}
	return out
}

func meetSegments(a, b []token) bool {
	seen := map[[2]int]bool{}
	var walk func(i, j int) bool
	walk = func(i, j int) bool {
		if i == len(a) && j == len(b) {
			return true
		}
		at := [2]int{i, j}
		if seen[at] {
			return false
		}
		seen[at] = true
		if i < len(a) && a[i].kind == star && (walk(i+1, j) || (j < len(b) && walk(i, j+1))) {
			return true
		}
		if j < len(b) && b[j].kind == star && (walk(i, j+1) || (i < len(a) && walk(i+1, j))) {
			return true
		}
		return i < len(a) && j < len(b) && a[i].kind != star && b[j].kind != star &&
			meetTokens(a[i], b[j]) && walk(i+1, j+1)
	}
	return walk(0, 0)
}

func meetTokens(a, b token) bool {
	if a.kind == literal {
		return b.has(a.r)
	}
	if b.kind == literal {
		return a.has(b.r)
	}
	return true
}
