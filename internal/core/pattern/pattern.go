// Package pattern holds regular expressions that are compiled when they are first used. There are
// many, and most commands need few: compiling all of them was a quarter of the time of a command that
// does nothing.
package pattern

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression in the syntax of the package regexp. Its methods are those of
// [regexp.Regexp], and panic if the expression is wrong.
type Pattern struct {
	get func() *regexp.Regexp
}

// New returns a pattern.
func New(expr string) *Pattern {
	return &Pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })}
}

func (p *Pattern) FindAllStringIndex(s string, n int) [][]int {
	return p.get().FindAllStringIndex(s, n)
}

func (p *Pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.get().FindAllStringSubmatch(s, n)
}

func (p *Pattern) FindAllSubmatch(b []byte, n int) [][][]byte { return p.get().FindAllSubmatch(b, n) }

func (p *Pattern) FindString(s string) string { return p.get().FindString(s) }

func (p *Pattern) FindStringIndex(s string) []int { return p.get().FindStringIndex(s) }

func (p *Pattern) FindStringSubmatch(s string) []string { return p.get().FindStringSubmatch(s) }

func (p *Pattern) FindStringSubmatchIndex(s string) []int { return p.get().FindStringSubmatchIndex(s) }

func (p *Pattern) MatchString(s string) bool { return p.get().MatchString(s) }

func (p *Pattern) ReplaceAllString(s, with string) string { return p.get().ReplaceAllString(s, with) }

func (p *Pattern) ReplaceAllStringFunc(s string, with func(string) string) string {
	return p.get().ReplaceAllStringFunc(s, with)
}

func (p *Pattern) Split(s string, n int) []string { return p.get().Split(s, n) }
