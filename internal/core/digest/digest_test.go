package digest

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/zeebo/blake3"
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

// Small texts are hashed alone and together, large ones with another code.
func TestDigestsOfSeveralTextsAreThoseOfEach(t *testing.T) {
	var texts [][]byte
	for n := range 70 {
		texts = append(texts, []byte(strings.Repeat("moss ", n*n*n/10)))
	}
	for n := range texts {
		for i, d := range OfEach(texts[:n], nil) {
			h := New()
			h.Write(texts[i][:len(texts[i])/2])
			h.Write(texts[i][len(texts[i])/2:])
			if reference := Digest(blake3.Sum256(texts[i])); d != reference || Of(texts[i]) != d || From(h) != d {
				t.Fatalf("text %d of %d: %s together, %s alone, %s in parts; it is %s", i, n, d, Of(texts[i]), From(h), reference)
			}
		}
	}
}
