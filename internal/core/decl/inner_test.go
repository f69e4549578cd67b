package decl

import (
	"slices"
	"testing"
)

func TestRepositoriesInsideOneAreFound(t *testing.T) {
	files := []string{
		"a/b/c/grayloft.toml", "a/b/c/x/loft.toml", "a/b/grayloft.toml", "a/b/loft.toml", "a/bc/loft.toml", "a/loft.toml", "d/not-grayloft.toml",
		"grayloft.toml", "loft.toml",
	}
	in := InnerOf(files)
	if !slices.Equal(in, Inner{"a/b"}) {
		t.Errorf("%q", in)
	}
	var own []string
	for _, f := range files {
		if !in.Has(f) {
			own = append(own, f)
		}
	}
	if want := []string{"a/bc/loft.toml", "a/loft.toml", "d/not-grayloft.toml", "grayloft.toml", "loft.toml"}; !slices.Equal(own, want) {
		t.Errorf("%q", own)
	}
}

func TestANameCanBeMadeOfAnyText(t *testing.T) {
	for text, want := range map[string]string{
		"skerry": "skerry", "my repo (1)!": "my-repo-1", "a@b:c/d": "a-b-c-d", "--x": "x", ".dots": "dots", "(!)": "repository", "": "repository",
		"ünlich": "ünlich", "v1.2.3": "v1.2.3", "tab\tand\nline": "tab-and-line", "'q\"": "q",
	} {
		got := NameFrom(text)
		if got != want || badName(got, true) != "" {
			t.Errorf("%q becomes %q (%s), want %q", text, got, badName(got, true), want)
		}
	}
}
