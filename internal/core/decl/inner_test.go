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
