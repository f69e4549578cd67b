package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/trial"
)

// everyone makes the tokens of a small team.
func everyone(t *testing.T, s *trial.Service) (ci, brenna string) {
	return s.Token(t, "ci", "trusted", "trusted"), s.Token(t, "brenna", "person/brenna", "person/brenna", "trusted")
}

func TestASecondMachineRunsNothing(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	r := trial.New(t, sample).Login(s.URL, ci, "harbour-ci")
	rep := r.Run("--pick", "all")
	if rep.Totals["ran"] != 4 || rep.Answer.Err != "" {
		t.Fatalf("%v\n%s", rep.Totals, rep.Answer.Err)
	}
	c := r.Clone().Login(s.URL, brenna, "home")
	other := c.Run("--pick", "all")
	want(t, "another machine", other.Outcomes(), map[string]string{
		"generate@lib": "fetched", "build@app": "fetched", "test@lib": "cached", "test@app": "cached"})
	for _, x := range other.Tasks {
		if x.MadeBy == nil || x.MadeBy.Name != "ci" || x.MadeBy.Place != "harbour-ci" || x.MadeBy.Run != rep.Run ||
			x.Key != rep.Of(x.Task).Key {
			t.Errorf("%s was made by %+v", x.Task, x.MadeBy)
		}
	}
	if c.Read("app/out/app") != r.Read("app/out/app") {
		t.Error("the outputs differ")
	}
	allAre(t, "again", c.Run("--pick", "all"), "current")

	// Only requested outputs are transferred, and those that a task that runs
	// will read.
	d := r.Clone().Login(s.URL, brenna, "office")
	if o := d.Run("test@app").Outcomes(); o["build@app"] != "cached" || d.Has("app/out/app") {
		t.Errorf("nobody asked for the outputs: %v", o)
	}
	d.Append("lib/test/t", "more\n")
	rep = d.Run("test@lib")
	want(t, "a task that has to run", rep.Outcomes(), map[string]string{"generate@lib": "fetched", "test@lib": "ran"})
	if reason := *rep.Of("test@lib").Reason; reason != "new" {
		t.Errorf("it ran because %s", reason)
	}

	// Results of brenna are hers; CI does not use them.
	d.Write("app/main", "hers\n")
	d.Run("build@app")
	e := r.Clone().Login(s.URL, ci, "harbour-ci")
	e.Write("app/main", "hers\n")
	if o := e.Run("build@app").Of("build@app").Outcome; o != "ran" {
		t.Errorf("CI took what brenna made: %s", o)
	}
	f := r.Clone().Login(s.URL, brenna, "home")
	f.Write("app/main", "hers\n")
	if x := f.Run("build@app").Of("build@app"); x.Outcome != "fetched" || x.MadeBy.Name != "brenna" {
		t.Errorf("brenna's own shelf: %+v", x)
	}
}

func TestRecordsOfRuns(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, _ := everyone(t, s)
	r := trial.New(t, sample).Login(s.URL, ci, "harbour-ci")
	r.Append("app/loft.toml", "[task.bad]\nrun = \"echo so bad; false\"\nreads = []\nwrites = []\nprobes = []\n")
	rep := r.Run("--pick", "all", "--keep-going")
	ctx := context.Background()
	tok, err := s.DB.FindToken(ctx, ci)
	if err != nil {
		t.Fatal(err)
	}
	d, err := s.DB.Run(ctx, tok.RepositoryID, rep.Run)
	if err != nil {
		t.Fatal(err)
	}
	if d.Name != "ci" || d.Place != "harbour-ci" || d.OK || d.Running || d.Finished == nil || d.Totals["failed"] != 1 ||
		d.Totals["ran"] != 4 ||
		len(d.Records) != 5 {
		t.Errorf("%+v", d)
	}
	if d.Commit == "" || d.Branch != "main" || d.BytesOut == 0 {
		t.Errorf("commit %q, branch %q, %d bytes out", d.Commit, d.Branch, d.BytesOut)
	}
	i := slices.IndexFunc(d.Records, func(x protocol.TaskRecord) bool { return x.Task == "bad@app" })
	if d.Records[i].Message != "exit 1" || d.Records[i].Log.IsZero() {
		t.Errorf("%+v", d.Records[i])
	}
	if _, err := s.DB.Blob(ctx, tok.RepositoryID, d.Records[i].Log); err != nil {
		t.Errorf("the log of what failed is not there: %v", err)
	}
}

// gate is a proxy in front of a service that can be told to misbehave.
type gate struct {
	*httptest.Server
	mode atomic.Value // "", refuse, cut, flip, hang
}

func newGate(t *testing.T, to string) *gate {
	target, err := url.Parse(to)
	if err != nil {
		t.Fatal(err)
	}
	g := &gate{}
	g.mode.Store("")
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.FlushInterval = -1
	proxy.ModifyResponse = func(resp *http.Response) error {
		blob := strings.Contains(resp.Request.URL.Path, "/blobs/") || strings.Contains(resp.Request.URL.Path, "/packs/fetch")
		mode := g.mode.Load().(string)
		if !blob || resp.StatusCode != http.StatusOK || (mode != "cut" && mode != "flip") {
			return nil
		}
		body, err := io.ReadAll(resp.Body)
		if err != nil {
			return err
		}
		resp.Body.Close()
		if mode == "cut" {
			body = body[:len(body)/2]
		} else {
			body[len(body)/2] ^= 1
		}
		resp.Body = io.NopCloser(bytes.NewReader(body))
		return nil
	}
	proxy.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { panic(http.ErrAbortHandler) }
	g.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		switch g.mode.Load().(string) {
		case "refuse":
			http.Error(w, "no", http.StatusServiceUnavailable)
		case "drop":
			panic(http.ErrAbortHandler)
		case "dropblobs":
			if strings.Contains(req.URL.Path, "packs") || strings.Contains(req.URL.Path, "blobs") {
				panic(http.ErrAbortHandler)
			}
			proxy.ServeHTTP(w, req)
		default:
			proxy.ServeHTTP(w, req)
		}
	}))
	t.Cleanup(g.Close)
	return g
}

func TestAServiceInTroubleNeverFailsARun(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	g := newGate(t, s.URL)
	r := trial.New(t, sample).Login(s.URL, ci, "ci")
	r.Run("--pick", "all")

	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := "http://" + closed.Addr().String()
	closed.Close()
	for _, c := range []struct {
		what, mode, url, token, says string
	}{
		{"nobody there", "", nobody, brenna, "cannot be reached"},
		{"one that refuses", "refuse", g.URL, brenna, "not an answer of a Gray Loft service"},
		{"one that hangs up", "drop", g.URL, brenna, "only this machine's cache is used"},
		{"one that dies in the middle", "dropblobs", g.URL, brenna, "only this machine's cache is used"},
		{"blobs that are cut off", "cut", g.URL, brenna, ""},
		{"blobs with a flipped bit", "flip", g.URL, brenna, ""},
		{"an unknown token", "", g.URL, "loft-nobody", "does not know this token"},
	} {
		g.mode.Store(c.mode)
		d := r.Clone().Login(c.url, c.token, "home")
		rep := d.Run("--pick", "all")
		if !rep.OK || rep.Totals["fetched"] != 0 {
			t.Errorf("%s: %v\n%s", c.what, rep.Outcomes(), rep.Answer.Err)
		}
		if d.Read("app/out/app") != r.Read("app/out/app") {
			t.Errorf("%s: the output is wrong", c.what)
		}
		if n := strings.Count(rep.Answer.Err, "warning:"); n != 1 || !strings.Contains(rep.Answer.Err, c.says) {
			t.Errorf("%s: %d warnings, want one that says %q:\n%s", c.what, n, c.says, rep.Answer.Err)
		}
	}
}

func TestUnsentResultsAreSentLater(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	g := newGate(t, s.URL)
	r := trial.New(t, sample).Login(g.URL, ci, "ci")
	g.mode.Store("dropblobs")
	rep := r.Run("--pick", "all")
	if !rep.OK {
		t.Fatal(rep.Outcomes())
	}
	g.mode.Store("")
	if again := r.Run("--pick", "all"); again.Answer.Err != "" {
		t.Errorf("it warned: %s", again.Answer.Err)
	}
	c := r.Clone().Login(s.URL, brenna, "home")
	if other := c.Run("--pick", "all"); other.Totals["ran"] != 0 {
		t.Errorf("what was spooled did not arrive: %v", other.Outcomes())
	}
	tok, err := s.DB.FindToken(context.Background(), ci)
	if err != nil {
		t.Fatal(err)
	}
	if d, err := s.DB.Run(context.Background(), tok.RepositoryID, rep.Run); err != nil || d.Totals["ran"] != 4 {
		t.Errorf("the record of the first run: %v, %v", d.Totals, err)
	}
}

// Bits are flipped in files of this machine's cache: damaged files are never
// restored.
func TestDamagedCacheFilesAreNeverRestored(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Run("--pick", "all")
	right := r.Read("app/out/app")
	dir := strings.TrimPrefix(r.Env[0], "GRAYLOFT_CACHE=")
	damage := func(file string, at int) {
		r.Remove("app/out")
		r.Remove("lib/gen")
		data, err := os.ReadFile(file)
		if err != nil || at >= len(data) {
			t.Fatal(len(data), err)
		}
		data[at] ^= 4
		if err := os.WriteFile(file, data, 0o644); err != nil {
			t.Fatal(err)
		}
		rep := r.Run("--pick", "all")
		if !rep.OK || r.Read("app/out/app") != right || r.Read("lib/gen/types") != "one\n" {
			t.Errorf("after damaging byte %d of %s: %v", at, filepath.Base(file), rep.Outcomes())
		}
	}
	segments, err := filepath.Glob(filepath.Join(dir, "segments", "*.tar"))
	if err != nil || len(segments) == 0 {
		t.Fatal(segments, err)
	}
	info, err := os.Stat(segments[0])
	if err != nil || info.Size() < 5*1024 {
		t.Fatal(info, err)
	}
	for at := int64(512); at < info.Size(); at += 1024 { // the contents of every small blob
		damage(segments[0], int(at))
	}
	for at := 72; at < 72*8; at += 72 { // rows of the index
		damage(filepath.Join(dir, "segments", "index-2"), at)
	}
	entries, _ := filepath.Glob(filepath.Join(dir, "entries", "*", "*"))
	for _, e := range entries {
		if err := os.WriteFile(e, []byte("{nonsense"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	r.Remove("app/out")
	if rep := r.Run("--pick", "all"); !rep.OK || r.Read("app/out/app") != right {
		t.Errorf("after damaging the entries: %v", rep.Outcomes())
	}
}

// The service has lost blobs: the task runs, and tasks that relied on it remain
// valid.
func TestEntriesWithMissingBlobs(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	r := trial.New(t, sample).Login(s.URL, ci, "ci")
	r.Run("--pick", "all")
	if _, err := s.DB.Exec(`DELETE FROM blobs WHERE digest IN (SELECT blob FROM listing_blobs) AND repository_id = (SELECT id FROM repositories WHERE name = $1)`, s.Repo); err != nil {
		t.Fatal(err)
	}
	c := r.Clone().Login(s.URL, brenna, "home")
	rep := c.Run("--pick", "all")
	if !rep.OK || rep.Ran()["generate@lib"] != "evicted" || c.Read("app/out/app") != r.Read("app/out/app") {
		t.Errorf("%v", rep.Outcomes())
	}
	d := r.Clone().Login(s.URL, s.Token(t, "oskar", "", "trusted"), "office")
	d.Append("lib/test/t", "more\n")
	if _, err := s.DB.Exec(`DELETE FROM blobs WHERE digest IN (SELECT blob FROM listing_blobs) AND repository_id = (SELECT id FROM repositories WHERE name = $1)`, s.Repo); err != nil {
		t.Fatal(err)
	}
	rep = d.Run("test@lib") // generate is cached until test must run, and its blobs are missing
	want(t, "found out late", rep.Outcomes(), map[string]string{"generate@lib": "ran", "test@lib": "ran"})
}

func TestAServiceIsKilledAndRestarted(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, _ := everyone(t, s)
	g := newGate(t, s.URL)
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.a]
run = "echo a > a.out; while [ ! -e go ]; do sleep 0.01; done"
reads = []
writes = ["a.out"]
probes = []
[task.b]
run = "cat a.out > b.out"
reads = []
writes = ["b.out"]
probes = []
after = ["a"]
`, ".gitignore": "*.out\ngo\n"}).Login(g.URL, ci, "ci")
	cmd := r.Command("run", "b")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	trial.Wait(t, "a to begin", func() bool { return r.Has("a.out") })
	g.CloseClientConnections()
	g.mode.Store("drop")
	r.Write("go", "")
	if err := cmd.Wait(); err != nil {
		t.Errorf("the run did not survive: %v", err)
	}
	g.mode.Store("")
	r.Run("b")
	c := r.Clone().Login(s.URL, ci, "ci")
	if rep := c.Run("b"); rep.Totals["ran"] != 0 {
		t.Errorf("what was made while the service was away: %v", rep.Outcomes())
	}
}

// throttled forwards the service's answers at a limited number of bytes per
// second.
func throttled(t *testing.T, to string, rate int) string {
	t.Helper()
	target, err := url.Parse(to)
	if err != nil {
		t.Fatal(err)
	}
	p := httputil.NewSingleHostReverseProxy(target)
	p.ModifyResponse = func(r *http.Response) error {
		r.Body = struct {
			io.Reader
			io.Closer
		}{slowly{r.Body, rate}, r.Body}
		return nil
	}
	s := httptest.NewServer(p)
	t.Cleanup(s.Close)
	return s.URL
}

// slowly reads at a limited rate.
type slowly struct {
	r    io.Reader
	rate int
}

func (s slowly) Read(p []byte) (int, error) {
	n, err := s.r.Read(p[:min(len(p), 16<<10)])
	time.Sleep(time.Duration(n) * time.Second / time.Duration(s.rate))
	return n, err
}

func TestTheFasterWayIsMeasuredAndReported(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	files := map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\n"}
	for _, n := range []string{"a", "b", "c", "d", "e"} {
		files["grayloft.toml"] += fmt.Sprintf(
			"[task.%s]\nrun = \"head -c 400000 /dev/urandom > %s.out\"\nreads = [\"in\"]\nwrites = [\"%s.out\"]\nprobes = []\n",
			n,
			n,
			n,
		)
	}
	files["grayloft.toml"] += "[task.big]\nrun = \"yes $(cat in) | head -c 6000000 | openssl enc -aes-128-ctr -K 00 -iv 00 > big.out 2>/dev/null || yes $(cat in) | head -c 6000000 > big.out\"\nreads = [\"in\"]\nwrites = [\"big.out\"]\nprobes = []\n" +
		"[task.sure]\nrun = \"head -c 3000000 /dev/urandom > sure.out\"\nreads = [\"in\"]\nwrites = [\"sure.out\"]\nprobes = []\nreuse = \"always\"\n" +
		"[task.odd]\nrun = \"head -c 3000000 /dev/urandom > odd.out\"\nreads = [\"in\"]\nwrites = [\"odd.out\"]\nprobes = []\n"
	files["in"] = "one\n"
	ci := trial.New(t, files).Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "fleet")
	r := ci.Clone().Login(throttled(t, s.URL, 900_000), s.Token(t, "ann", "", "trusted"), "home")
	r.Env = append(r.Env, "GRAYLOFT_CACHE="+t.TempDir())
	if rep := r.Run("big", "sure", "odd", "--offline"); !rep.OK { // so that their duration here is known
		t.Fatal(rep.Answer)
	}
	ci.Write("in", "two\n")
	ci.Run("--pick", "all")
	r.Write("in", "two\n")
	if rep := r.Run("a", "b", "c", "d", "e"); rep.Totals["fetched"] != 5 { // so that the connection is measured
		t.Fatalf("%v", rep.Outcomes())
	}
	if p := r.Plan("big"); p.Of("big@test").Outcome != "ran" || *p.Of("big@test").Reason != "faster" {
		t.Errorf("the plan: %+v", p.Tasks)
	}
	if a := r.Grayloft("show", "big@test"); !strings.Contains(a.Out, "measured") ||
		!strings.Contains(a.Out, "it runs if none of its outputs are here") {
		t.Errorf("show: %s%s", a.Out, a.Err)
	}
	rep := r.Run("big", "sure", "odd")
	if got := rep.Of("big@test"); got.Outcome != "ran" || got.Reason == nil || *got.Reason != "faster" ||
		!strings.Contains(got.Message, "fetching its 6.0 MB about") {
		t.Errorf("running is cheaper: %+v", got)
	}
	if got := rep.Of("sure@test"); got.Outcome != "fetched" {
		t.Errorf("reuse = \"always\": %+v", got)
	}
	if got := rep.Of("odd@test"); got.Outcome != "ran" ||
		!strings.Contains(rep.Answer.Err, "odd@test was run because that was faster than fetching, but gave different outputs") {
		t.Errorf("%+v\n%s", got, rep.Answer.Err)
	}
	ci.Write("in", "three\n")
	if rep := ci.Run("--pick", "all"); !rep.OK || rep.Answer.Err != "" {
		t.Fatal(rep.Answer)
	}
	r.Write("in", "three\n")
	if rep := r.Run("odd"); rep.Of("odd@test").Outcome != "fetched" {
		t.Errorf("from then on it is fetched: %+v\n%s", rep.Tasks, rep.Answer.Err)
	}
}
