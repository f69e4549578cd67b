package decl

import "testing"

func TestASuggestionKeepsSomethingOfTheName(t *testing.T) {
	for name, want := range map[string]string{"c": "", "A": "a", "b": "b", "qay": "quay", "buld": "build", "xy": "", "zzzzz": "", "qu": "quay"} {
		if got := Closest(name, []string{"a", "b", "build", "quay"}); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}
