package manifest

import (
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/edit"
)

// A list that is kept in order is put in order by as few moves as there are; of any other
// list, nothing is said.
func TestListsThatAreKeptInOrder(t *testing.T) {
	for text, want := range map[string]string{
		"a b c d":              "",
		"z a b c d":            "z behind d",
		"a c b d e f":          "b before c",
		"a b c e d":            "d before e",
		"b a":                  "",
		"d c b a":              "",
		"A b C d c":            "c before d",
		"a a b":                "",
		"a b | d c | e f":      "",
		"a b e | c d a2 e f g": "a2 before c",
	} {
		lines := ""
		var list []listed
		for name := range strings.FieldsSeq(text) {
			if name == "|" {
				lines += "\n"
				continue
			}
			list = append(list, listed{name: name, from: len(lines), to: len(lines) + len(name) + 1})
			lines += name + "\n"
		}
		found := misplaced("x", lines, list)
		var got []string
		for _, m := range found {
			if m.Before != "" {
				got = append(got, m.Name+" before "+m.Before)
			} else {
				got = append(got, m.Name+" behind "+m.After)
			}
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
		changes := make([][]edit.Edit, len(found))
		for i, m := range found {
			changes[i] = m.Edits
		}
		after, n, err := edit.Apply("x", lines, changes)
		if err != nil || n != len(found) || len(after) != len(lines) {
			t.Errorf("%s: %d edits, %v: %q", text, n, err, after)
		}
	}
}
