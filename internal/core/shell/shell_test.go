package shell

import (
	"strings"
	"testing"
)

func TestTheProgramsThatACommandStarts(t *testing.T) {
	for _, c := range []struct{ text, words, refused string }{
		{"go version", "go", ""},
		{"", "", ""},
		{"true x", "", ""},
		{"cargo --version && rustc --version", "cargo rustc", ""},
		{"cd web; npm ls --json | sort || true", "npm sort", ""},
		{`LC_ALL=C a "b c" > out; a`, "a", ""},
		{"echo $(a -v) `b`", "a b", ""},
		{"if a; then ( b ); else { c; }; fi", "a b c", ""},
		{"f() { a; }; f", "a", ""},
		{"./tools/version 'it'\\''s'", "./tools/version", ""},
		{"# nothing\na", "a", ""},
		{`"$TOOL" --version`, "", "computes"},
		{"exec a", "", "exec starts another"},
		{"env X=1 a", "", "env starts another"},
		{"a &&", "", "POSIX"},
	} {
		words, err := Programs(c.text)
		if got := strings.Join(words, " "); c.refused == "" && (err != nil || got != c.words) {
			t.Errorf("%s: %q, %v; want %q", c.text, got, err, c.words)
		}
		if c.refused != "" && (err == nil || !strings.Contains(err.Error(), c.refused)) {
			t.Errorf("%s: %q, %v; want an error about %q", c.text, words, err, c.refused)
		}
	}
}
