package remote

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"unicode/utf8"

	"grayloft.example/grayloft/internal/protocol"
)

// A service that loses answers and knows more or less than the client thinks gets
// every line once, in order.
func TestLinesArriveOnceAndInOrder(t *testing.T) {
	var got []string
	calls := 0
	c, _, _ := client(t, func(w http.ResponseWriter, r *http.Request) {
		var in protocol.LogChunks
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			t.Error(err)
		}
		calls++
		for _, x := range in.Chunks {
			if x.First <= len(got) && calls%4 != 1 { // now and then, the start of the task is not known yet
				for _, l := range x.Lines[len(got)-x.First:] {
					got = append(got, l.Text)
				}
			}
		}
		if calls%4 == 3 {
			w.WriteHeader(http.StatusServiceUnavailable) // it has the lines, but does not say so
			return
		}
		_ = json.NewEncoder(w).Encode(protocol.LogAnswer{Have: map[string]int{"talk@test": len(got)}})
	})
	g := grow(c, "run-12345678")
	g.begin.Do(func() {}) // the test sends by itself
	g.started("talk@test")
	g.line("other@test", "of a task that did not start")
	for i := range 12_000 {
		g.line("talk@test", fmt.Sprintf("line %d", i))
	}
	for range 20 {
		if !g.flush(context.Background()) {
			t.Fatal("it gave up")
		}
	}
	if len(got) != 12_000 || got[0] != "line 0" || got[11_999] != "line 11999" {
		t.Errorf("%d lines arrived in %d calls", len(got), calls)
	}
	if chunks, more := g.waiting(); len(chunks) > 0 || more {
		t.Errorf("%d chunks wait still", len(chunks))
	}
	g.done("talk@test")
	g.line("talk@test", "late")
	if chunks, _ := g.waiting(); len(chunks) > 0 {
		t.Error("a line after the end is sent")
	}
}

func TestARefusalEndsTheSendingOfLines(t *testing.T) {
	for status, goesOn := range map[int]bool{
		http.StatusNotFound: false, http.StatusForbidden: false, http.StatusServiceUnavailable: true,
	} {
		c, _, _ := client(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) })
		g := grow(c, "run-12345678")
		g.begin.Do(func() {})
		g.started("talk@test")
		g.line("talk@test", "x")
		if got := g.flush(context.Background()); got != goesOn {
			t.Errorf("after %d it goes on: %v", status, got)
		}
	}
}

// What waits for a slow service is bounded, and what a service would refuse is not
// sent.
func TestLinesThatWaitAreBounded(t *testing.T) {
	g := grow(nil, "run-12345678")
	g.begin.Do(func() {})
	g.started("talk@test")
	for range 3 * growLimit / protocol.MaxLineBytes {
		g.line("talk@test", strings.Repeat("é", protocol.MaxLineBytes))
	}
	if w := g.tasks["talk@test"]; !w.given || len(w.lines) > 0 {
		t.Errorf("%d lines wait", len(w.lines))
	}
	for text, want := range map[string]string{"a\x00b": "ab", "a\xffb": "a\uFFFDb", "plain": "plain"} {
		if got := sendable(text); got != want {
			t.Errorf("%q is sent as %q", text, got)
		}
	}
	for n := range 8 { // cut at every place of a character
		long := sendable(strings.Repeat("x", n) + strings.Repeat("→", protocol.MaxLineBytes))
		if len(long) > protocol.MaxLineBytes || !utf8.ValidString(long) || !strings.HasSuffix(long, "…") {
			t.Errorf("%d bytes, ending in %q", len(long), long[len(long)-6:])
		}
	}
}
