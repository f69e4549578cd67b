package needle

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// A text is found where the standard library finds it, whatever is around it.
func TestATextIsFoundWhereItIs(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 9))
	for round := range 40_000 {
		letters := "ab/-"[:1+rnd.IntN(4)] // so that parts of it are frequent
		some := func(n int) []byte {
			out := make([]byte, n)
			for i := range out {
				out[i] = letters[rnd.IntN(len(letters))]
			}
			return out
		}
		text := some(rnd.IntN(20))
		data := some(rnd.IntN(200))
		if rnd.IntN(2) == 0 && len(data) >= len(text) {
			copy(data[rnd.IntN(len(data)-len(text)+1):], text)
		}
		data = data[min(len(data), rnd.IntN(32)):] // at any alignment
		if got, want := New(string(text)).Index(data), bytes.Index(data, text); got != want {
			t.Fatalf("round %d: %q in %q: %d instead of %d", round, text, data, got, want)
		}
	}
}

func TestTheRarestBytesAreLookedFor(t *testing.T) {
	for text, want := range map[string]string{"/home/brenna/work/skerry/": "wk", "aa": "aa", "/tmp/x": "mx"} {
		n := New(text)
		if got := string([]byte{text[n.first], text[n.second]}); got != want || n.first >= n.second {
			t.Errorf("%s: %q at %d and %d", text, got, n.first, n.second)
		}
	}
}

// BenchmarkIndex compares with the standard library.
func BenchmarkIndex(b *testing.B) {
	const text = "/home/brenna/work/skerry/"
	source := strings.Repeat("export function berth(name) { return harbour.find(\"berths/\" + name); } // of the quay\n", 1000)
	paths := strings.Repeat("/home/brenna/work/other/apps/booking/src/pages/timetable.ts\n", 1000)
	for name, data := range map[string][]byte{"source": []byte(source), "paths": []byte(paths)} {
		for by, index := range map[string]func() int{
			"standard library": func() int { return bytes.Index(data, []byte(text)) },
			"needle":           func() int { return New(text).Index(data) },
		} {
			b.Run(fmt.Sprint(name, "/", by), func(b *testing.B) {
				b.SetBytes(int64(len(data)))
				for b.Loop() {
					if index() >= 0 {
						b.Fatal("found")
					}
				}
			})
		}
	}
}
