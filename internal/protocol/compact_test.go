package protocol_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

func answer() protocol.LookupAnswer {
	d := func(s string) digest.Digest { return digest.Of([]byte(s)) }
	at := time.Date(2026, 11, 26, 7, 30, 15, 250_000_000, time.UTC)
	return protocol.LookupAnswer{Entries: []protocol.Entry{
		{
			Key: d("k"), EarlyKey: d("e"), Task: "build@fares", Listing: d("l"), Log: d("g"), Ingredients: d("i"), Reports: d("r"),
			Seconds: 1.25, Bytes: 1 << 40, Shelf: "trusted", CheckoutPaths: []string{"out/a"}, Refs: []digest.Digest{d("x"), d("y")},
			MadeBy: protocol.Maker{Name: "ci", Host: "h", Place: "ci-4", Run: "06gt", At: at},
		},
		{Task: "test@fares", Key: d("k2"), MadeBy: protocol.Maker{At: at}},
	}}
}

func TestCompactAnswersSayTheSameAsJSON(t *testing.T) {
	want := answer()
	text := protocol.CompactLookup(want)
	got, err := protocol.ReadCompactLookup(text)
	if err != nil {
		t.Fatal(err)
	}
	for i := range got.Entries {
		if !got.Entries[i].MadeBy.At.Equal(want.Entries[i].MadeBy.At) {
			t.Errorf("made at %v, not %v", got.Entries[i].MadeBy.At, want.Entries[i].MadeBy.At)
		}
		got.Entries[i].MadeBy.At = want.Entries[i].MadeBy.At
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nnot %+v", got, want)
	}
	plain, err := json.Marshal(want)
	if err != nil || len(text) > len(plain)*2/3 {
		t.Errorf("%d bytes, and %d as JSON; %v", len(text), len(plain), err)
	}
}

// The encoding of a number or length depends on its size.
func TestCompactAnswersHaveNumbersAndTextsOfAnySize(t *testing.T) {
	var want protocol.LookupAnswer
	for bits := range 64 {
		for _, n := range []int64{1<<bits - 1, 1 << bits, -(1 << bits)} {
			e := protocol.Entry{
				Bytes:   n,
				Seconds: float64(n) / 3,
				Task:    "t",
				MadeBy:  protocol.Maker{Name: fmt.Sprint(n), At: time.UnixMicro(n / 2).UTC()},
			}
			if n >= 0 && bits <= 17 {
				e.Task = strings.Repeat("t", int(n))
				e.Refs = slices.Repeat([]digest.Digest{digest.Of(nil)}, 1+int(n)%300)
			}
			want.Entries = append(want.Entries, e, e)
		}
	}
	want.Entries[0].Seconds, want.Entries[1].Seconds = math.Inf(1), math.Inf(-1)
	got, err := protocol.ReadCompactLookup(protocol.CompactLookup(want))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Error("what was read differs from what was written")
	}
	if none, err := protocol.ReadCompactLookup(protocol.CompactLookup(protocol.LookupAnswer{})); err != nil || len(none.Entries) != 0 {
		t.Errorf("an empty answer: %+v, %v", none, err)
	}
}

func TestHostileCompactAnswersAreRefused(t *testing.T) {
	text := protocol.CompactLookup(answer())
	k := digest.Of([]byte("k"))
	short := bytes.Replace(text, append([]byte{0x58, 32}, k[:]...), append([]byte{0x58, 31}, k[:31]...), 1)
	long := bytes.Replace(text, append([]byte{0x58, 32}, k[:]...), append(append([]byte{0x58, 33}, k[:]...), 0), 1)
	for name, b := range map[string][]byte{
		"nothing":                   {},
		"cut off":                   text[:len(text)-1],
		"more behind it":            append(bytes.Clone(text), 0),
		"an array of 2^32":          {0xa1, 0x67, 'e', 'n', 't', 'r', 'i', 'e', 's', 0x9b, 0, 0, 0, 1, 0, 0, 0, 0},
		"deep":                      bytes.Repeat([]byte{0x81}, 1000),
		"a digest of 31 bytes":      short,
		"a digest of 33 bytes":      long,
		"makers that are not there": bytes.Replace(text, append([]byte{0x67}, "made_by\x82"...), append([]byte{0x67}, "made_xy\x82"...), 1),
		"another version":           bytes.Replace(text, append([]byte{0x67}, "version\x01"...), append([]byte{0x67}, "version\x02"...), 1),
		"a string of 2^60 bytes":    {0x7b, 0x10, 0, 0, 0, 0, 0, 0, 0, 'x'},
		"an array without length":   {0xa1, 0x67, 'e', 'n', 't', 'r', 'i', 'e', 's', 0x9f, 0xff},
	} {
		if got, err := protocol.ReadCompactLookup(b); err == nil {
			t.Errorf("%s: read as %+v", name, got)
		}
	}
}

func FuzzReadCompact(f *testing.F) {
	f.Add(protocol.CompactLookup(answer()))
	f.Fuzz(func(t *testing.T, b []byte) {
		got, err := protocol.ReadCompactLookup(b)
		if err != nil {
			return
		}
		again := protocol.CompactLookup(got)
		if same, err := protocol.ReadCompactLookup(again); err != nil || len(same.Entries) != len(got.Entries) {
			t.Errorf("%v: %d entries, not %d", err, len(same.Entries), len(got.Entries))
		}
	})
}
