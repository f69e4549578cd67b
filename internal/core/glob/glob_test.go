package glob

import (
	"math/rand/v2"
	"strings"
	"testing"
)

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		pattern, path string
		want          bool
	}{
		{"rates/*.csv", "rates/base.csv", true},
		{"rates/*.csv", "rates/old/base.csv", false},
		{"**/*.go", "a.go", true},
		{"**/*.go", "a/b/c.go", true},
		{"src", "src/deep/x.mjs", true}, // a directory's name matches everything below it
		{"src/", "src/x", true},
		{"src/**", "src", true},
		{"**", ".hidden/x", true}, // dotfiles match
		{"*", ".env", true},
		{"{a,b}/x", "b/x", true},
		{"[a-c].txt", "b.txt", true},
		{"[a-c].txt", "d.txt", false},
		{"a?c", "a/c", false},
		{`a\*b`, "a*b", true},
		{"./gen/x", "gen/x", true},
		{"naïve/*", "naïve/ü", true},
	} {
		if got := MustParse(c.pattern).Match(c.path); got != c.want {
			t.Errorf("%q against %q: %v, want %v", c.pattern, c.path, got, c.want)
		}
	}
}

func TestBadPatternsAreRefused(t *testing.T) {
	for _, s := range []string{"", "/abs", "a/../b", "a//b", "[a", "{a,b", "a\\", "a/./b", "\xff"} {
		if _, err := Parse(s); err == nil {
			t.Errorf("%q was taken", s)
		}
	}
}

func TestMeetsAndCovers(t *testing.T) {
	for _, c := range []struct {
		p, q          string
		meets, covers bool
	}{
		{"dist/**", "dist/app.js", true, true},
		{"**/*.js", "dist/**", true, false},
		{"**/*.go", "gen/rates.json", false, false},
		{"gen", "gen/wire.go", true, true},
		{"*.txt", "a*", true, false},
		{"a*b", "ab", true, true},
		{"a*b", "*c", false, false},
		{"{x,y}/**", "y/z", true, true},
		{"src/*", "src/*/deep", true, true},
		{"**", "anything/at/all", true, true},
		{"bin/**", "bin/**", true, true},
		{"bin/*.exe", "bin/**", true, false},
	} {
		p, q := MustParse(c.p), MustParse(c.q)
		if got := p.Meets(q); got != c.meets || q.Meets(p) != c.meets {
			t.Errorf("%q meets %q: %v and %v, want %v", c.p, c.q, got, q.Meets(p), c.meets)
		}
		if got := p.Covers(q); got != c.covers {
			t.Errorf("%q covers %q: %v, want %v", c.p, c.q, got, c.covers)
		}
	}
}

// Patterns that match the same path must meet, and a pattern must match
// whatever the patterns it covers match.
func TestMeetsAndCoversAgreeWithMatching(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	segs := []string{"a", "b", "ab", "*", "a*", "?", "**", "[ab]", "{a,b}"}
	names := []string{"a", "b", "ab", "ba"}
	word := func(from []string) string {
		n := 1 + rnd.IntN(3)
		var out []string
		for range n {
			out = append(out, from[rnd.IntN(len(from))])
		}
		return strings.Join(out, "/")
	}
	met := 0
	for range 20000 {
		p, q, path := MustParse(word(segs)), MustParse(word(segs)), word(names)
		if p.Match(path) && q.Match(path) {
			met++
			if !p.Meets(q) {
				t.Fatalf("%q matches both %q and %q, which are said not to meet", path, p, q)
			}
		}
		if p.Covers(q) && q.Match(path) && !p.Match(path) {
			t.Fatalf("%q is said to cover %q, and does not match %q", p, q, path)
		}
	}
	if met < 1000 {
		t.Fatalf("only %d cases met: the test says little", met)
	}
}

func FuzzFastFormsAgreeWithTheGeneralMatcher(f *testing.F) {
	for _, s := range []string{"src", "src/**", "**", "**/*.go", "a/b", "**/*_test.go", "a*/**", "x/", "*.go"} {
		for _, n := range []string{"src", "src/a", "srcs", "a.go", "d.go/x", "a/b/c", ".go", "a_test.go"} {
			f.Add(s, n)
		}
	}
	f.Fuzz(func(t *testing.T, pattern, name string) {
		p, err := Parse(pattern)
		if err != nil || name == "" || strings.HasPrefix(name, "/") || strings.HasSuffix(name, "/") || strings.Contains(name, "//") {
			return
		}
		if p.Match(name) != p.slowMatch(name) {
			t.Errorf("%q against %q: %v, and in the general way %v", pattern, name, p.Match(name), p.slowMatch(name))
		}
	})
}
