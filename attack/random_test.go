//go:build trials

package attack

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

// times is how often a trial is repeated; TRIALS=10 makes it a tenth.
func times(n int) int {
	if part, err := strconv.Atoi(os.Getenv("TRIALS")); err == nil && part > 0 {
		return max(1, n/part)
	}
	return n
}

// TestRandomMisbehavingServices plays random tricks on random calls, from the
// start or after a while.
func TestRandomMisbehavingServices(t *testing.T) {
	s := trial.ServeWith(t, func(*service.Config) {})
	uid := os.Getuid()
	if uid == 0 {
		uid = ordinary
	}
	filled := newDesk(t, uid, harbour()).login(s.URL, s.Token(t, "ci", "trusted", "trusted"))
	plain := filled.grayloft("run", "book@a")
	var mu sync.Mutex
	longest, most := plain.took, plain.most
	n := times(500)
	for i := range n {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			rnd := rand.New(rand.NewPCG(uint64(i), 2026))
			plays, after := map[string]string{}, rnd.IntN(6)
			for range 1 + rnd.IntN(3) {
				plays[trial.Calls[rnd.IntN(len(trial.Calls))]] = trial.Tricks[rnd.IntN(len(trial.Tricks))]
			}
			var calls sync.Mutex
			seen := 0
			m := trial.Misbehave(t, s.URL, func(call string) string {
				calls.Lock()
				defer calls.Unlock()
				if seen++; seen <= after {
					return ""
				}
				return plays[call]
			})
			d := newDesk(t, uid, harbour())
			d.repo = filled.repo
			d.write(filepath.Join(d.dir, "grayloft.toml"), strings.ReplaceAll(harbour()["grayloft.toml"], "REPO", filled.repo))
			if rnd.IntN(2) == 0 {
				d.write(filepath.Join(d.dir, "a/in.txt"), fmt.Sprint("tide ", i))
			}
			d.own(d.dir)
			d.login(m.URL, s.TokenFor(t, filled.repo, "kari", fmt.Sprint("person/kari", i), "trusted"))
			r := d.grayloft("run", "chart@a", "atlas@a", "book@a")
			d.rightOutputs(fmt.Sprint(plays), r)
			mu.Lock()
			defer mu.Unlock()
			longest, most = max(longest, r.took), max(most, r.most)
			if r.took > plain.took+mostLost || r.most > 300<<20 {
				t.Errorf("%v after %d calls: %s, %d MB", plays, after, r.took, r.most>>20)
			}
		})
	}
	t.Cleanup(func() {
		t.Logf("%d scenarios; without tricks %s and %d MB; at most %s and %d MB", n, plain.took, plain.most>>20, longest, most>>20)
	})
}

// sample is a request of a real client.
type sample struct {
	method, path string
	header       http.Header
	body         []byte
}

// real records the requests that a client sends in a run and in a second one.
func real(t *testing.T, s *trial.Service) []sample {
	t.Helper()
	var mu sync.Mutex
	var all []sample
	m := trial.Misbehave(t, s.URL, func(string) string { return "" })
	recorder := trial.Record(t, m, func(r *http.Request, body []byte) {
		mu.Lock()
		defer mu.Unlock()
		h := r.Header.Clone()
		h.Del("Authorization")
		all = append(all, sample{r.Method, r.URL.RequestURI(), h, body})
	})
	token := s.Token(t, "mallory", "person/mallory", "person/mallory", "trusted")
	for range 2 {
		d := newDesk(t, os.Getuid(), harbour()).login(recorder, token)
		d.grayloft("run", "chart@a", "atlas@a", "book@a")
		d.grayloft("why", "book@a")
	}
	mu.Lock()
	defer mu.Unlock()
	return all
}

var strange = []string{
	"-1", "9223372036854775807", "-9223372036854775808", "1e308", "1.7976931348623157e308", "0.1", "null", "true", `""`, `"\u0000"`, `"\ud800"`,
	`"\u001b[2J"`, "[]", "{}", `"` + strings.Repeat("x", 5000) + `"`, "[" + strings.Repeat("0,", 3000) + "0]", `"0000-00-00T00:00:00Z"`,
	`"` + strings.Repeat("0", 64) + `"`, `"../../etc/passwd"`, `"trusted"`, "3000000000", strings.Repeat("[", 2000),
}

// mutate changes a request in one to four ways.
func mutate(rnd *rand.Rand, q sample) sample {
	q.header = q.header.Clone()
	for range 1 + rnd.IntN(4) {
		switch rnd.IntN(8) {
		case 0, 1, 2: // a value of a JSON document
			var doc any
			if json.Unmarshal(q.body, &doc) == nil {
				q.body = replaceValue(rnd, q.body)
			}
		case 3: // a bit
			if len(q.body) > 0 {
				q.body = bytes.Clone(q.body)
				q.body[rnd.IntN(len(q.body))] ^= 1 << rnd.IntN(8)
			}
		case 4: // the end
			q.body = q.body[:rnd.IntN(len(q.body)+1)]
		case 5: // the address
			parts := strings.Split(q.path, "/")
			parts[len(parts)-1-rnd.IntN(2)] = []string{"..", "%00", "%ff", strings.Repeat("0", 64), strings.Repeat("a", 3000), "", "self",
				"x?shelf=trusted", "x?from=-1&length=9223372036854775807", "runs?limit=-5"}[rnd.IntN(10)]
			q.path = strings.Join(parts, "/")
		case 6:
			q.header.Set([]string{"Content-Type", "Content-Encoding", "Accept-Encoding", "Range"}[rnd.IntN(4)],
				[]string{"zstd", "gzip", "text/plain", "bytes=0-18446744073709551615", "\x7f"[:0]}[rnd.IntN(5)])
		case 7:
			q.method = []string{"GET", "PUT", "POST", "DELETE", "HEAD", "INVENTED"}[rnd.IntN(6)]
		}
	}
	return q
}

// replaceValue replaces a random value of a JSON text.
func replaceValue(rnd *rand.Rand, text []byte) []byte {
	var starts []int
	for i, c := range text {
		if c == ':' || c == '[' || c == ',' {
			starts = append(starts, i+1)
		}
	}
	if len(starts) == 0 {
		return text
	}
	at := starts[rnd.IntN(len(starts))]
	d := json.NewDecoder(bytes.NewReader(text[at:]))
	var old json.RawMessage
	if d.Decode(&old) != nil {
		return text
	}
	return fmt.Appendf(nil, "%s%s%s", text[:at], strange[rnd.IntN(len(strange))], text[at+int(d.InputOffset()):])
}

// TestRandomHostileRequests sends mutated requests with a personal token.
func TestRandomHostileRequests(t *testing.T) {
	s := trial.ServeWith(t, func(*service.Config) {})
	victim := &attacker{t, &trial.Service{Service: s.Service, DB: s.DB, Config: s.Config, Repo: "victim"}, s.TokenFor(t, "victim", "ci", "trusted", "trusted")}
	content := "what must stay"
	kept := victim.entry("build@v", content)
	victim.file(kept, "trusted")
	honest := ci(t, s)
	own := honest.entry("build@o", "what must stay here too")
	honest.file(own, "trusted")
	all := real(t, s)
	if len(all) < 10 {
		t.Fatalf("only %d requests were recorded", len(all))
	}
	token := s.Token(t, "mallory", "person/mallory", "person/mallory", "trusted")
	before := snapshotOf(t, s)
	statuses := map[int]int{}
	n := times(500)
	for i := range n {
		rnd := rand.New(rand.NewPCG(uint64(i), 77))
		q := mutate(rnd, all[rnd.IntN(len(all))])
		a := as(t, s, token)
		req, err := http.NewRequest(q.method, s.URL+q.path, io.NopCloser(bytes.NewReader(q.body)))
		if err != nil {
			continue
		}
		req.Header = q.header
		req.Header.Set("Authorization", "Bearer "+a.token)
		req.ContentLength = int64(len(q.body))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			continue // the HTTP library refuses to send it, or the service to read it
		}
		_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		resp.Body.Close()
		statuses[resp.StatusCode]++
		if resp.StatusCode >= 500 {
			t.Errorf("%d: %s %.200s %v %.300q: %d", i, q.method, q.path, q.header, q.body, resp.StatusCode)
		}
	}
	if after := snapshotOf(t, s); after != before {
		t.Errorf("another repository, or the trusted shelf, was affected:\n%s\n%s", before, after)
	}
	if !victim.finds(kept, content) || !honest.finds(own, "what must stay here too") {
		t.Error("results are gone")
	}
	if err := clean(t, s); err != nil {
		t.Errorf("the cleanup fails: %v", err)
	}
	t.Logf("%d requests, statuses %v", n, statuses)
}

// snapshotOf describes what no personal token may change.
func snapshotOf(t *testing.T, s *trial.Service) string {
	t.Helper()
	var text string
	if err := s.DB.Get(&text, `
		SELECT (SELECT count(*) FROM entries WHERE shelf = 'trusted') || ' ' ||
			(SELECT count(*) FROM blobs b JOIN repositories r ON r.id = b.repository_id WHERE r.name = 'victim') || ' ' ||
			(SELECT count(*) FROM runs WHERE shelf = 'trusted') || ' ' || (SELECT count(*) FROM tokens) || ' ' ||
			(SELECT string_agg(coalesce(quota_bytes, 0)::text, ',') FROM repositories)`); err != nil {
		t.Fatal(err)
	}
	return text
}
