package listing

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

// Nearly all paths take the short way through the checks. It must come to the same result as the
// long one.
func TestPlainPathsAreCheckedLikeAllOthers(t *testing.T) {
	const alphabet = "ab./Ag \\~\u017f\x7f"
	rnd := rand.New(rand.NewPCG(7, 7))
	any := func(from []rune) string {
		p := make([]rune, 1+rnd.IntN(6))
		for i := range p {
			p[i] = from[rnd.IntN(len(from))]
		}
		return string(p)
	}
	plain := 0
	for range 100_000 {
		if p := any([]rune(alphabet)); isPlain(p) {
			plain++
			if err := checkPath(p); err != nil || foldPath(p) != p {
				t.Fatalf("%q is plain, but: %v, %q", p, err, foldPath(p))
			}
		}
	}
	refused := 0
	for range 20_000 {
		var rows []Row
		for range 1 + rnd.IntN(6) {
			if p := any([]rune("ab/-")); isPlain(p) {
				rows = append(rows, Row{Kind: EmptyDir, Path: p})
			}
		}
		List(rows).Sort()
		rows = slices.CompactFunc(rows, func(a, b Row) bool { return a.Path == b.Path })
		long, short := checkFolded(rows), checkPlain(rows)
		if (long == nil) != (short == nil) {
			t.Fatalf("%v: %v, %v", rows, long, short)
		}
		if long != nil {
			refused++
		}
	}
	if plain < 1000 || refused < 500 {
		t.Errorf("the samples prove little: %d plain, %d refused", plain, refused)
	}
}

func BenchmarkParse(b *testing.B) {
	var l List
	for i := range 10_000 {
		l = append(l, Row{Kind: File, Size: 50_000, Digest: digest.Of(fmt.Append(nil, i)), Path: fmt.Sprintf("out/%d/f%05d", i/100, i)})
	}
	l.Sort()
	text := l.Encode()
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := Parse(text); err != nil {
			b.Fatal(err)
		}
	}
}
