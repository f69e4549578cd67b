package digest

import (
	"encoding/json"
	"strings"
	"testing"
)

// The published test vector of BLAKE3 for an empty input.
const ofNothing = "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262"

func TestDigestIsBlake3(t *testing.T) {
	if got := Of(nil).String(); got != ofNothing {
		t.Errorf("digest of nothing is %s", got)
	}
	h := New()
	h.Write([]byte("ab"))
	if From(h) != Of([]byte("ab")) {
		t.Error("a digest taken in parts differs")
	}
	if Derive("a", nil) == Derive("b", nil) || Derive("a", nil) == Of(nil) {
		t.Error("contexts do not part keys")
	}
}

func TestTextForm(t *testing.T) {
	for _, bad := range []string{"", "af13", strings.ToUpper(ofNothing), ofNothing[:63] + "g", ofNothing + "00", strings.Repeat("0", 64)} {
		if _, err := Parse(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
	var back struct{ D, None Digest }
	b, err := json.Marshal(struct{ D, None Digest }{D: Of(nil)})
	if err != nil || !strings.Contains(string(b), ofNothing) || !strings.Contains(string(b), `"None":""`) {
		t.Fatalf("%s, %v", b, err)
	}
	if err := json.Unmarshal(b, &back); err != nil || back.D != Of(nil) || !back.None.IsZero() {
		t.Errorf("read back as %v, %v", back, err)
	}
}
