package schedule

import "testing"

func TestParsePart(t *testing.T) {
	if p, err := ParsePart("2/5"); err != nil || p != (Part{2, 5}) {
		t.Errorf("%v, %v", p, err)
	}
	for _, text := range []string{"", "2", "0/5", "6/5", "a/5", "2/b", "1/1001", "-1/2", "1/2/3"} {
		if p, err := ParsePart(text); err == nil {
			t.Errorf("%q was accepted as %v", text, p)
		}
	}
}
