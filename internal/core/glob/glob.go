// Package glob matches slash-separated paths against the patterns that
// declarations and picks use: `*`, `?`, `[a-z]`, `{a,b}` within a path segment
// and `**` across segments. A directory's name matches everything below it,
// dotfiles match like any other name, and a pattern never matches outside the
// directory it is relative to.
//
// The package also answers two questions about patterns alone, before any file
// exists: whether two of them can match the same path, and whether one matches
// everything that another matches.
package glob

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"
)

// Pattern is a checked pattern. The zero value matches nothing.
type Pattern struct {
	text string   // normalised
	deep string   // text + "/**": the pattern and everything below it
	alts []string // text with its braces expanded
	form form
	part string // the literal text of the form
}

// form is a shape of pattern that has a fast matcher.
type form int

const (
	general   form = iota
	plainPath      // part, and everything below it
	beneath        // part and "/**"
	anything       // "**"
	suffixed       // "**/*" and part: a segment with this suffix, and everything below it
)

// formOf finds the shape of a pattern.
func formOf(t string) (form, string) {
	const wild = `*?[{\`
	if t == "**" {
		return anything, ""
	}
	if !strings.ContainsAny(t, wild) {
		return plainPath, t
	}
	if dir, ok := strings.CutSuffix(t, "/**"); ok && !strings.ContainsAny(dir, wild) {
		return beneath, dir
	}
	if end, ok := strings.CutPrefix(t, "**/*"); ok && end != "" && !strings.ContainsAny(end, wild+"/") {
		return suffixed, end
	}
	return general, ""
}

const maxAlternatives = 256

// Parse checks and normalises a pattern: it removes a leading "./" and a
// trailing slash. Absolute patterns and ".." are errors.
func Parse(s string) (Pattern, error) {
	if s == "" {
		return Pattern{}, errors.New("a pattern must not be empty")
	}
	if !utf8.ValidString(s) {
		return Pattern{}, fmt.Errorf("pattern %q is not UTF-8", s)
	}
	if strings.HasPrefix(s, "/") {
		return Pattern{}, fmt.Errorf("pattern %q is absolute: patterns are relative", s)
	}
	t := strings.TrimSuffix(s, "/")
	for strings.HasPrefix(t, "./") {
		t = t[2:]
	}
	if t == "" || t == "." {
		t = "**"
	}
	for seg := range strings.SplitSeq(t, "/") {
		switch seg {
		case "..":
			return Pattern{}, fmt.Errorf("pattern %q leaves its directory with \"..\"", s)
		case "", ".":
			return Pattern{}, fmt.Errorf("pattern %q has an empty segment", s)
		}
	}
	if !doublestar.ValidatePattern(t) {
		return Pattern{}, fmt.Errorf("pattern %q has an unclosed bracket, brace or backslash", s)
	}
	alts := expand(t)
	if len(alts) > maxAlternatives {
		return Pattern{}, fmt.Errorf("pattern %q expands to more than %d alternatives", s, maxAlternatives)
	}
	p := Pattern{text: t, deep: below(t), alts: alts}
	p.form, p.part = formOf(t)
	return p, nil
}

// below returns the pattern of t and everything below it.
func below(t string) string {
	if t == "**" || strings.HasSuffix(t, "/**") {
		return t
	}
	return t + "/**"
}

// MustParse is [Parse] for patterns that are known to be valid.
func MustParse(s string) Pattern {
	p, err := Parse(s)
	if err != nil {
		panic(err)
	}
	return p
}

// String returns the normalised text.
func (p Pattern) String() string { return p.text }

// Match tells whether name, or a directory that contains it, matches.
func (p Pattern) Match(name string) bool {
	switch p.form {
	case anything:
		return true
	case plainPath, beneath:
		return strings.HasPrefix(name, p.part) && (len(name) == len(p.part) || name[len(p.part)] == '/')
	case suffixed:
		return strings.HasSuffix(name, p.part) || strings.Contains(name, p.part+"/")
	}
	return p.slowMatch(name)
}

func (p Pattern) slowMatch(name string) bool {
	return p.text != "" && doublestar.MatchUnvalidated(p.deep, name)
}

// MatchExact tells whether name itself matches, without the rule that a
// directory matches everything below it.
func (p Pattern) MatchExact(name string) bool {
	return p.text != "" && doublestar.MatchUnvalidated(p.text, name)
}

// Literal tells whether the pattern has no wildcard, so that it names one path.
func (p Pattern) Literal() bool { return !strings.ContainsAny(p.text, `*?[{\`) }

// LiteralBase tells whether the last segment has no wildcard, and returns it.
func (p Pattern) LiteralBase() (string, bool) {
	base := path.Base(p.text)
	return base, !strings.ContainsAny(base, `*?[{\`)
}

// LiteralStart returns the leading segments without wildcards: the directory
// (or file) at which a search can start. It may be empty.
func (p Pattern) LiteralStart() string {
	segs := strings.Split(p.text, "/")
	for i, s := range segs {
		if strings.ContainsAny(s, `*?[{\`) {
			return strings.Join(segs[:i], "/")
		}
	}
	return p.text
}

// Under returns the pattern relative to the parent of dir.
func (p Pattern) Under(dir string) Pattern {
	if dir == "" || dir == "." || p.text == "" {
		return p
	}
	q := quote(dir) + "/"
	out := Pattern{text: q + p.text, deep: q + p.deep}
	out.form, out.part = formOf(out.text)
	for _, a := range p.alts {
		out.alts = append(out.alts, q+a)
	}
	return out
}

func quote(s string) string {
	if !strings.ContainsAny(s, `*?[]{}\`) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if strings.ContainsRune(`*?[]{}\`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// expand expands braces. It stops early beyond maxAlternatives.
func expand(s string) []string {
	cuts := firstBraces(s)
	if cuts == nil {
		return []string{s}
	}
	var out []string
	for _, tail := range expand(s[cuts[len(cuts)-1]+1:]) {
		for k := 0; k+1 < len(cuts); k++ {
			for _, mid := range expand(s[cuts[k]+1 : cuts[k+1]]) {
				out = append(out, s[:cuts[0]]+mid+tail)
				if len(out) > maxAlternatives {
					return out
				}
			}
		}
	}
	return out
}

// firstBraces returns the positions of the first outermost pair of braces and of
// the commas directly in it, in order; nil if there is none.
func firstBraces(s string) []int {
	var cuts []int
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '{':
			if depth == 0 {
				cuts = []int{i}
			}
			depth++
		case ',':
			if depth == 1 {
				cuts = append(cuts, i)
			}
		case '}':
			if depth--; depth == 0 {
				return append(cuts, i)
			}
		}
	}
	return nil
}
