package attack

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// Declarations that a client sends are loaded by the service. They must cost
// little whatever they contain, and nothing but declarations comes of them.
func TestHostileDeclarationsCostLittle(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	mallory := person(t, s, "mallory")
	send := func(g protocol.Graph) answer {
		_, name := g.Encode()
		return mallory.send("PUT", "/v1/test/graphs/"+name.String(), g)
	}
	root := func(text string, more ...protocol.DeclFile) protocol.Graph {
		return protocol.Graph{
			Base: "test", Dirs: []string{},
			Files: append([]protocol.DeclFile{{Path: "grayloft.toml", Text: "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"p/*\"]\n" + text}}, more...),
		}
	}
	many, chain := []protocol.DeclFile{}, []protocol.DeclFile{}
	for i := range 6000 {
		many = append(many, protocol.DeclFile{Path: fmt.Sprintf("p/a%d/loft.toml", i), Text: "[task.a]\nrun = \"a\"\n"})
		needs := ""
		if i > 0 {
			needs = fmt.Sprintf("needs = [\"a%d\"]\n", i-1)
		}
		chain = append(chain, protocol.DeclFile{Path: fmt.Sprintf("p/a%d/loft.toml", i), Text: fmt.Sprintf("[project]\nname = \"a%d\"\n%s", i, needs)})
	}
	for name, g := range map[string]protocol.Graph{
		"too many projects": root("", many...), "a long chain": root("", chain...),
		"no TOML":          root("[["),
		"nested arrays":    root("x = " + strings.Repeat("[", 200_000)),
		"a path outside":   root("", protocol.DeclFile{Path: "../../etc/passwd", Text: ""}),
		"an absolute path": root("", protocol.DeclFile{Path: "/etc/passwd", Text: ""}),
		"no root":          {Base: "test", Dirs: []string{}, Files: []protocol.DeclFile{{Path: "p/a/loft.toml"}}},
	} {
		began := time.Now()
		refused(t, name, send(g))
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s took %s", name, took)
		}
	}
	refused(t, "another digest", mallory.send("PUT", "/v1/test/graphs/"+strings.Repeat("a", 64), root("")))
	if n := count(t, s, "SELECT count(*) FROM graphs WHERE repository_id = $1", repository(t, s)); n != 0 {
		t.Errorf("%d graphs are stored", n)
	}
	if got := send(root("[task.a]\nrun = \"a\"\n")); got.status != http.StatusNoContent {
		t.Errorf("an honest one: %d %s", got.status, got.text())
	}
}

// What shows records needs the right to view, what changes access the right to
// manage; and what clients wrote does not run in the console's name.
func TestRecordsAndAccessNeedTheirRights(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	secret, err := s.DB.NewToken(t.Context(), records.Token{
		Repository: s.Repo, Name: "blind", WritesTo: "person/blind", ReadsFrom: []string{"trusted"},
	})
	if err != nil {
		t.Fatal(err)
	}
	blind, viewer, other := as(t, s, secret), person(t, s, "viewer"), ci(t, s)
	other.want("POST", "/v1/test/runs", protocol.Run{
		ID: "run-hostile", Place: "<script>alert(1)</script>", Requested: []string{"<img src=x onerror=alert(1)>"}, Started: time.Now(),
	})
	other.want("POST", "/v1/test/runs/run-hostile/events", `{"events":[{"seq":1,"task":{"task":"a@b","project":"b","outcome":"failed",`+
		`"message":"</title><script>alert(2)</script>","at":0,"seconds":1,"slot":1,"key":"","listing":"","log":"","saved_seconds":0,"bytes_in":0,"picked":true}},`+
		`{"seq":2,"finish":{"ok":false,"seconds":1,"totals":{}}}]}`)
	for _, path := range []string{
		"runs", "runs/run-hostile", "runs/run-hostile/task?task=a@b", "runs/run-hostile/difference?task=a@b&with=run-hostile",
		"runs/run-hostile/report/html", "run-facets", "balance", "tasks", "tasks/a@b", "advice", "projects", "reach?path=a", "cache",
		"entries/" + strings.Repeat("a", 64),
	} {
		if got := blind.send("GET", "/v1/test/"+path, nil); got.status != http.StatusForbidden {
			t.Errorf("without view, %s: %d", path, got.status)
		}
	}
	for _, q := range []struct{ method, path, body string }{
		{"GET", "tokens", ""}, {"POST", "tokens", `{"name":"x","writes_to":"trusted","reads_from":[],"view":true,"manage":true,"days":0}`},
		{"POST", "tokens/1/rotate", ""}, {"DELETE", "tokens/1", ""}, {"GET", "audit", ""}, {"PUT", "cache/retention", `{"days":1}`},
	} {
		if got := viewer.send(q.method, "/v1/test/"+q.path, q.body); got.status != http.StatusForbidden {
			t.Errorf("without manage, %s %s: %d", q.method, q.path, got.status)
		}
	}
	if n := count(t, s, "SELECT count(*) FROM tokens WHERE name = 'x' AND repository_id = $1", repository(t, s)); n != 0 {
		t.Error("a token was made")
	}
	got := viewer.send("GET", "/v1/test/runs/run-hostile/report/html", nil)
	if got.status != 200 || strings.Contains(got.text(), "<script") || strings.Contains(got.text(), "<img") {
		t.Errorf("%d %s", got.status, got.text())
	}
	if h := got.header; !strings.HasPrefix(h.Get("Content-Disposition"), "attachment") || !strings.Contains(h.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("a report is shown as a page of the console: %v", h)
	}
}

// A token of one repository manages nothing of another.
func TestAManagerReachesOnlyItsOwnRepository(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	newToken := func(repo, name string, manage bool) (secret string, id int64) {
		id, secret, err := s.DB.MakeToken(t.Context(), records.Token{Repository: repo, Name: name, ReadsFrom: []string{"trusted"}, MayView: true, MayManage: manage})
		if err != nil {
			t.Fatal(err)
		}
		return secret, id
	}
	manager, _ := newToken(s.Repo, "manager", true)
	victim, id := newToken("victims", "victim", false)
	m := as(t, s, manager)
	for _, q := range [][2]string{{"POST", fmt.Sprintf("/v1/test/tokens/%d/rotate", id)}, {"DELETE", fmt.Sprintf("/v1/test/tokens/%d", id)}} {
		if got := m.send(q[0], q[1], nil); got.status != http.StatusNotFound {
			t.Errorf("%s %s: %d", q[0], q[1], got.status)
		}
	}
	if _, err := s.DB.FindToken(t.Context(), victim); err != nil {
		t.Errorf("the other repository's token: %v", err)
	}
	// Nobody mixes trusted and untrusted results, not even a manager.
	refused(t, "a token that writes to trusted and reads others", m.send("POST", "/v1/test/tokens",
		`{"name":"mixed","writes_to":"trusted","reads_from":["person/mallory"],"view":false,"manage":false,"days":1}`))
	var made protocol.MadeToken
	if err := json.Unmarshal(m.want("POST", "/v1/test/tokens", `{"name":"ok","writes_to":"person/ok","reads_from":["trusted"],"view":false,"manage":false,"days":1}`).body, &made); err != nil || made.Secret == "" {
		t.Errorf("an honest one: %v", err)
	}
}

// Lines of running tasks are stored for others to read meanwhile: only those of
// one's own run, and no more than a bounded number of bytes of each run.
func TestGrowingLogsAreBounded(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	mallory, brenna := person(t, s, "mallory"), person(t, s, "brenna")
	for name, who := range map[string]*attacker{"mallory-run": mallory, "brenna-run": brenna} {
		who.send("POST", "/v1/test/runs", protocol.Run{ID: name, Host: "h", Place: "p", Requested: []string{}, Tasks: 1, Started: time.Now()})
		who.send("POST", "/v1/test/runs/"+name+"/events", protocol.Events{Events: []protocol.Event{{Seq: 1, Start: &protocol.TaskStart{Task: "talk@test"}}}})
	}
	lines := func(first, n, bytes int) protocol.LogChunks {
		c := protocol.LogChunk{Task: "talk@test", First: first}
		for range n {
			c.Lines = append(c.Lines, protocol.LogLine{Text: strings.Repeat("x", bytes)})
		}
		return protocol.LogChunks{Chunks: []protocol.LogChunk{c}}
	}
	refused(t, "another's run", mallory.send("POST", "/v1/test/runs/brenna-run/logs", lines(0, 1, 10)))
	refused(t, "a long line", mallory.send("POST", "/v1/test/runs/mallory-run/logs", lines(0, 1, protocol.MaxLineBytes+1)))
	refused(t, "many lines", mallory.send("POST", "/v1/test/runs/mallory-run/logs", lines(0, protocol.MaxChunkLines+1, 1)))
	for i := range 12 {
		mallory.send("POST", "/v1/test/runs/mallory-run/logs", lines(i*4000, 4000, 1500))
	}
	got := count(t, s, "SELECT sum(bytes)::bigint FROM growing_logs WHERE run_id = 'mallory-run' AND repository_id = $1", repository(t, s))
	if got < protocol.MaxGrowing || got > protocol.MaxGrowing+8<<20 {
		t.Errorf("%d bytes are stored", got)
	}
	if n := count(t, s, "SELECT count(*) FROM growing_logs WHERE run_id = 'brenna-run' AND repository_id = $1", repository(t, s)); n != 0 {
		t.Errorf("%d parts of brenna's log are mallory's", n)
	}
}
