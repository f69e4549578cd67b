package send

import (
	"strings"
	"testing"

	wire "skerry.example/wire-schema/gen"
)

func TestTextIsCutToLength(t *testing.T) {
	s := Text(wire.Cancellation{Id: "k7", Why: strings.Repeat("fog ", 60)}, 160)
	if n := len([]rune(s)); n != 160 {
		t.Errorf("%d characters, want 160", n)
	}
}
