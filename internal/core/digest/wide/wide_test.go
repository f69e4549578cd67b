package wide

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/zeebo/blake3"
)

// some returns random bytes.
func some(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// length returns a random length, often one at a boundary of blocks, chunks, spans or groups.
func length(r *rand.Rand) int {
	n := r.IntN(1 << r.IntN(20))
	if r.IntN(2) == 0 {
		unit := []int{block, chunk, width * chunk, span * chunk, group * chunk}[r.IntN(5)]
		n = max(0, n/unit*unit+r.IntN(3)-1)
	}
	return n
}

func available(t testing.TB) {
	if !Available {
		t.Skip("this processor has no AVX-512")
	}
}

// alone hashes a text of up to a group in lanes, however short it is.
func alone(text []byte) [32]byte { return hashers.Get().(*hasher).one(text, 0, root) }

func TestSumsAreThoseOfTheLibrary(t *testing.T) {
	available(t)
	r := rand.New(rand.NewPCG(1, 2))
	text := some(r, 1<<19)
	for n := range 3 * width * chunk / 16 {
		if got := Sum(text[n : 2*n]); got != alone(text[n:2*n]) || got != blake3.Sum256(text[n:2*n]) {
			t.Fatalf("%d bytes: %x, and %x in lanes", n, got, alone(text[n:2*n]))
		}
	}
	for range 500 {
		n := length(r)
		at := r.IntN(len(text) - n + 1)
		if got := Sum(text[at : at+n]); got != blake3.Sum256(text[at:at+n]) {
			t.Fatalf("%d bytes: %x", n, got)
		}
	}
}

func TestSeveralTextsHaveTheSumsOfEach(t *testing.T) {
	available(t)
	r := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		texts := make([][]byte, r.IntN(100))
		for i := range texts {
			texts[i] = some(r, length(r)>>r.IntN(12))
		}
		sums := make([][32]byte, len(texts))
		SumAll(texts, sums)
		for i, text := range texts {
			if sums[i] != blake3.Sum256(text) {
				t.Fatalf("text %d of %d, %d bytes: %x", i, len(texts), len(text), sums[i])
			}
		}
	}
}

func TestWhatIsWrittenInPartsHasTheSumOfTheWhole(t *testing.T) {
	available(t)
	r := rand.New(rand.NewPCG(5, 6))
	h := New()
	for range 60 {
		h.Reset()
		whole := blake3.New()
		for range r.IntN(12) {
			part := some(r, length(r))
			h.Write(part)
			whole.Write(part)
			if r.IntN(3) == 0 && string(h.Sum(nil)) != string(whole.Sum(nil)) {
				t.Fatalf("after %d spans and %d bytes: %x", h.trunk.spans, len(h.text), h.Sum(nil))
			}
		}
		if got := h.Sum([]byte("before")); string(got) != "before"+string(whole.Sum(nil)) {
			t.Fatalf("%d spans and %d bytes: %x", h.trunk.spans, len(h.text), got)
		}
	}
}

func BenchmarkSum(b *testing.B) {
	available(b)
	text := some(rand.New(rand.NewPCG(7, 8)), 1<<20)
	sums := map[string]func([]byte) [32]byte{"wide": Sum, "library": func(t []byte) [32]byte { return blake3.Sum256(t) }}
	for _, n := range []int{1 << 10, 2 << 10, 3 << 10, 5000, 16 << 10, 50_000, 1 << 20} {
		for name, sum := range sums {
			b.Run(fmt.Sprintf("%s/%d", name, n), func(b *testing.B) {
				b.SetBytes(int64(n))
				for b.Loop() {
					sum(text[:n])
				}
			})
		}
	}
	for _, n := range []int{300, 1 << 10, 2 << 10, 5000, 50_000} {
		texts := make([][]byte, min(64, len(text)/n))
		for i := range texts {
			texts[i] = text[i*n : (i+1)*n]
		}
		out := make([][32]byte, len(texts))
		b.Run(fmt.Sprintf("together/%d", n), func(b *testing.B) {
			b.SetBytes(int64(n * len(texts)))
			for b.Loop() {
				SumAll(texts, out)
			}
		})
	}
}
