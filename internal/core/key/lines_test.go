package key

import (
	"slices"
	"testing"
)

func TestOnlyLinesThatDifferAreShown(t *testing.T) {
	for _, c := range []struct {
		was, is string
		want    []string
	}{
		{"fog 1", "fog 2", nil}, // shown as they are
		{"fog 1\nhaze 1\nmist 1", "fog 1\nhaze 2\nmist 1", []string{"-haze 1", "+haze 2"}},
		{"fog 1", "fog 1\nhaze 1", []string{"+haze 1"}},
		{"a\nb\nc\nd\ne\nf\ng\nh\ni\nj", "b\nc\nd\ne\nf\ng\nh\ni\nj\nk", []string{"-a", "+k"}},
		{"--- x\n@@ y", "@@ y", []string{"---- x"}},
	} {
		if got := (Change{Before: c.was, After: c.is}).Lines(); !slices.Equal(got, c.want) {
			t.Errorf("%q to %q: %q, want %q", c.was, c.is, got, c.want)
		}
	}
}
