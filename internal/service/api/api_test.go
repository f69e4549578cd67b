package api_test

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

// caller calls a service over HTTP, and checks each answer against the OpenAPI
// document that the service serves.
type caller struct {
	t      *testing.T
	s      *trial.Service
	token  string
	router routers.Router
	odd    bool // it sends what the document does not allow: some of that is taken as well
}

func newCaller(t *testing.T, token func(*trial.Service) string) *caller {
	return callerOf(t, trial.Serve(t), token)
}

func callerOf(t *testing.T, s *trial.Service, token func(*trial.Service) string) *caller {
	doc, err := openapi3.NewLoader().LoadFromData(document(t, s))
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(context.Background()); err != nil {
		t.Fatal("the document itself:", err)
	}
	doc.Servers = openapi3.Servers{{URL: s.URL}}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	return &caller{t: t, s: s, token: token(s), router: router}
}

// document is the description of its interface that the service serves.
func document(t *testing.T, s *trial.Service) []byte {
	resp, err := http.Get(s.URL + "/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func ci(s *trial.Service) string {
	secret, err := s.DB.NewToken(context.Background(), records.Token{
		Repository: s.Repo, Name: "ci", WritesTo: "trusted", ReadsFrom: []string{"trusted"}, MayView: true})
	if err != nil {
		panic(err)
	}
	return secret
}

func init() {
	for _, t := range []string{"application/x-tar", "text/event-stream", "application/octet-stream", "application/xml", "text/html"} {
		openapi3filter.RegisterBodyDecoder(t, openapi3filter.FileBodyDecoder)
	}
}

// call sends a request; a value is sent as JSON, bytes unchanged.
func (c *caller) call(method, path string, body any) (int, []byte) {
	c.t.Helper()
	var data []byte
	kind := "application/json"
	switch b := body.(type) {
	case nil:
	case []byte:
		data, kind = b, protocol.TypeBlob
		if strings.HasSuffix(path, "/packs") {
			kind = protocol.TypePack
		}
	default:
		var err error
		if data, err = json.Marshal(body); err != nil {
			c.t.Fatal(err)
		}
	}
	path = strings.Replace(path, "/v1/test/", "/v1/"+c.s.Repo+"/", 1)
	req, err := http.NewRequest(method, c.s.URL+path, bytes.NewReader(data))
	if err != nil {
		c.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Content-Type", kind)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	req.Body = io.NopCloser(bytes.NewReader(data))
	c.hold(req, resp, answer)
	if resp.StatusCode >= 400 && method != http.MethodHead {
		var p protocol.Problem
		if json.Unmarshal(answer, &p) != nil || p.Title == "" || p.Status != resp.StatusCode ||
			resp.Header.Get("Content-Type") != protocol.TypeProblem {
			c.t.Errorf("%s %s: %d is no problem document: %s", method, path, resp.StatusCode, answer)
		}
	}
	return resp.StatusCode, answer
}

// hold checks an answer against the document.
func (c *caller) hold(req *http.Request, resp *http.Response, answer []byte) {
	c.t.Helper()
	route, params, err := c.router.FindRoute(req)
	if err != nil {
		c.t.Errorf("%s %s is not in the document: %v", req.Method, req.URL.Path, err)
		return
	}
	in := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}
	if resp.StatusCode < 300 && req.Method != http.MethodPut && !c.odd { // the document allows what the service accepts
		if err := openapi3filter.ValidateRequest(context.Background(), in); err != nil {
			c.t.Errorf("%s %s was taken, and the document does not allow it: %v", req.Method, req.URL.Path, err)
		}
	}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: resp.StatusCode, Header: resp.Header,
		Options: &openapi3filter.Options{IncludeResponseStatus: true}}
	out.SetBodyBytes(answer)
	if err := openapi3filter.ValidateResponse(context.Background(), out); err != nil {
		c.t.Errorf("%s %s: %d is not as the document says: %v\n%s", req.Method, req.URL.Path, resp.StatusCode, err, answer)
	}
}

func (c *caller) want(status int, method, path string, body any) []byte {
	c.t.Helper()
	got, answer := c.call(method, path, body)
	if got != status {
		c.t.Fatalf("%s %s: %d, want %d: %s", method, path, got, status, answer)
	}
	return answer
}

// compact looks an entry up in CBOR.
func (c *caller) compact(e protocol.Entry) {
	c.t.Helper()
	body, _ := json.Marshal(protocol.Lookup{Tasks: []protocol.Query{{Task: e.Task, Key: e.Key}}})
	req, err := http.NewRequest("POST", c.s.URL+"/v1/"+c.s.Repo+"/entries/lookup", bytes.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Accept", protocol.TypeCompact+", application/json;q=0.5")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil || resp.Header.Get("Content-Type") != protocol.TypeCompact {
		c.t.Fatalf("%v, %v", resp.Header, err)
	}
	got, err := protocol.ReadCompactLookup(text)
	if err != nil || len(got.Entries) != 1 || got.Entries[0].Listing != e.Listing ||
		got.Entries[0].MadeBy.At.Sub(e.MadeBy.At).Abs() > time.Millisecond {
		c.t.Errorf("in CBOR: %+v, %v", got, err)
	}
}

func (c *caller) put(b []byte) digest.Digest {
	c.t.Helper()
	c.want(http.StatusNoContent, "PUT", "/v1/test/blobs/"+digest.Of(b).String(), b)
	return digest.Of(b)
}

// entry sends everything that an entry names, and returns the entry without
// storing it.
func (c *caller) entry(list []byte, in *key.Ingredients, blobs ...[]byte) protocol.Entry {
	c.t.Helper()
	for _, b := range blobs {
		c.put(b)
	}
	return protocol.Entry{
		Key: in.Key(), EarlyKey: in.EarlyKey(), Task: "build@a", Listing: c.put(list), Ingredients: c.put(in.Encode()),
		Log: c.put(tasklog.New(time.Now, nil).Bytes()), Seconds: 1.5, Bytes: 2,
		MadeBy: protocol.Maker{Name: "whoever", Host: "h", Place: "p", Run: "r", At: time.Now().UTC().Truncate(time.Millisecond)},
	}
}

func file(path string, content []byte) listing.Row {
	return listing.Row{Kind: listing.File, Size: int64(len(content)), Digest: digest.Of(content), Path: path}
}

func path(e protocol.Entry, shelf string) string {
	return fmt.Sprintf("/v1/test/entries/%s?shelf=%s", e.Key, shelf)
}

func TestEntriesAreFiledOnceAndFound(t *testing.T) {
	c := newCaller(t, ci)
	c.want(200, "GET", "/healthz", nil)
	c.want(200, "GET", "/v1/test/self", nil)
	in := &key.Ingredients{Dir: "a", Command: []string{"true"}}
	e := c.entry(listing.List{file("out", []byte("ok"))}.Encode(), in)

	// A blob that it names is missing: refused, with the list.
	var p protocol.Problem
	if err := json.Unmarshal(c.want(409, "PUT", path(e, "trusted"), e), &p); err != nil || len(p.Missing) != 1 ||
		p.Missing[0] != digest.Of([]byte("ok")) {
		t.Fatalf("%+v, %v", p, err)
	}
	c.put([]byte("ok"))
	c.want(201, "PUT", path(e, "trusted"), e)
	c.want(200, "PUT", path(e, "trusted"), e)

	// Another listing for the same key: the first one stays, and the divergence
	// is recorded.
	second := e
	second.Listing = c.put(listing.List{}.Encode())
	var filed protocol.Filed
	if err := json.Unmarshal(c.want(200, "PUT", path(e, "trusted"), second), &filed); err != nil || !filed.Diverged || filed.Created ||
		filed.Listing != e.Listing {
		t.Errorf("%+v, %v", filed, err)
	}
	var n int
	if err := c.s.DB.Get(&n, "SELECT count(*) FROM divergences WHERE repository_id = (SELECT id FROM repositories WHERE name = $1)", c.s.Repo); err != nil ||
		n != 1 {
		t.Errorf("%d divergences are on record, %v", n, err)
	}

	for what, q := range map[string]protocol.Query{"key": {Task: "build@a", Key: e.Key}, "early key": {Task: "build@a", EarlyKey: e.EarlyKey}} {
		var found protocol.LookupAnswer
		if err := json.Unmarshal(c.want(200, "POST", "/v1/test/entries/lookup", protocol.Lookup{Tasks: []protocol.Query{q}}), &found); err != nil ||
			len(found.Entries) != 1 {
			t.Fatalf("by %s: %+v, %v", what, found, err)
		}
		got := found.Entries[0]
		if got.Listing != e.Listing || got.MadeBy.Name != "ci" || got.MadeBy.Run != "r" || got.Shelf != "trusted" ||
			!got.MadeBy.At.Equal(e.MadeBy.At) {
			t.Errorf("by %s: %+v", what, got)
		}
	}
	c.compact(e)
	if b := c.want(200, "GET", "/v1/test/blobs/"+digest.Of([]byte("ok")).String(), nil); string(b) != "ok" {
		t.Errorf("the blob came back as %q", b)
	}
	c.want(200, "HEAD", "/v1/test/blobs/"+digest.Of([]byte("ok")).String(), nil)
	c.want(404, "GET", "/v1/test/blobs/"+digest.Of([]byte("none")).String(), nil)
}

func TestHostileEntriesAreRefused(t *testing.T) {
	c := newCaller(t, ci)
	in := &key.Ingredients{Dir: "a", Command: []string{"true"}}
	good := listing.List{}.Encode()
	d := digest.Of([]byte("ok")).String()
	rows := func(body string) []byte { return []byte("grayloft-listing 1\n" + body) }
	for what, list := range map[string][]byte{
		"a path that leads out":       rows("f\t2\t" + d + "\t../x\n"),
		"an absolute path":            rows("f\t2\t" + d + "\t/x\n"),
		"git's directory":             rows("f\t2\t" + d + "\t.git/hooks/x\n"),
		"a link that leads out":       rows("l\t9\t../../etc\tx\n"),
		"a link to an absolute path":  rows("l\t4\t/etc\tx\n"),
		"another size than the blob":  rows("f\t3\t" + d + "\tx\n"),
		"no listing at all":           []byte("hello"),
		"a listing that is cut off":   rows("f\t2\t" + d + "\tx"),
		"a child of a file":           rows("f\t2\t" + d + "\ta\nf\t2\t" + d + "\ta/b\n"),
		"names that fold together":    rows("f\t2\t" + d + "\tA\nf\t2\t" + d + "\ta\n"),
		"a listing of another format": []byte("grayloft-listing 9\n"),
	} {
		e := c.entry(list, in, []byte("ok"))
		if status, answer := c.call("PUT", path(e, "trusted"), e); status != 422 {
			t.Errorf("%s: %d %s", what, status, answer)
		}
	}
	e := c.entry(good, in)
	e.Key = (&key.Ingredients{Dir: "b"}).Key()
	if status, _ := c.call("PUT", path(e, "trusted"), e); status != 422 {
		t.Errorf("a key that is not that of the ingredients: %d", status)
	}
	e = c.entry(good, in)
	e.Ingredients = c.put(append(in.Encode(), 'x'))
	e.Key = key.OfEncoded(append(in.Encode(), 'x'))
	if status, _ := c.call("PUT", path(e, "trusted"), e); status != 422 {
		t.Errorf("ingredients that are not canonical: %d", status)
	}
	e = c.entry(good, in)
	c.want(400, "PUT", "/v1/test/entries/"+digest.Of(nil).String()+"?shelf=trusted", e)
	var n int
	if err := c.s.DB.Get(&n, "SELECT count(*) FROM entries WHERE repository_id = (SELECT id FROM repositories WHERE name = $1)", c.s.Repo); err != nil ||
		n != 0 {
		t.Errorf("%d entries were filed, %v", n, err)
	}
}

func TestWrongBodiesAreNotStored(t *testing.T) {
	c := callerOf(t, trial.ServeWith(t, func(*service.Config) {}), ci) // it looks at the files of the service
	d := digest.Of([]byte("hello"))
	for what, body := range map[string][]byte{"a flipped bit": []byte("hellp"), "cut off": []byte("hell"), "nothing": {}} {
		if status, _ := c.call("PUT", "/v1/test/blobs/"+d.String(), body); status != 422 {
			t.Errorf("%s: %d", what, status)
		}
	}
	c.want(400, "PUT", "/v1/test/blobs/nonsense", []byte("x"))
	var left []string
	err := filepath.WalkDir(filepath.Join(c.s.Config.Data, "blobs"), func(p string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			left = append(left, p)
		}
		return err
	})
	if err != nil || len(left) > 0 {
		t.Errorf("kept: %v, %v", left, err)
	}

	// In a pack, correct members are stored, and each member has a result.
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	for name, text := range map[digest.Digest]string{d: "hello", digest.Of([]byte("x")): "y"} {
		_ = tw.WriteHeader(&tar.Header{Name: name.String(), Size: int64(len(text)), Mode: 0o444, Format: tar.FormatUSTAR})
		_, _ = tw.Write([]byte(text))
	}
	tw.Close()
	var answer protocol.PackAnswer
	if err := json.Unmarshal(c.want(200, "POST", "/v1/test/packs", b.Bytes()), &answer); err != nil || len(answer.Results) != 2 {
		t.Fatalf("%+v, %v", answer, err)
	}
	for _, r := range answer.Results {
		if r.OK != (r.Digest == d) {
			t.Errorf("%+v", r)
		}
	}
	cut := b.Bytes()[:300]
	c.want(400, "POST", "/v1/test/packs", cut)
	var lack protocol.Digests
	if err := json.Unmarshal(c.want(200, "POST", "/v1/test/blobs/missing", protocol.Digests{Digests: []digest.Digest{d, digest.Of([]byte("x"))}}), &lack); err != nil ||
		len(lack.Digests) != 1 ||
		lack.Digests[0] == d {
		t.Errorf("missing: %+v, %v", lack, err)
	}
	pack := c.want(200, "POST", "/v1/test/packs/fetch", protocol.Digests{Digests: []digest.Digest{d, digest.Of([]byte("x"))}})
	tr := tar.NewReader(bytes.NewReader(pack))
	h, err := tr.Next()
	if err != nil || h.Name != d.String() {
		t.Fatal(h, err)
	}
	if _, err := tr.Next(); err != io.EOF {
		t.Errorf("more than what is there: %v", err)
	}
}

func TestTokens(t *testing.T) {
	c := newCaller(t, ci)
	good, ctx := c.token, context.Background()
	in := &key.Ingredients{Dir: "a", Command: []string{"true"}}
	e := c.entry(listing.List{}.Encode(), in)
	c.want(201, "PUT", path(e, "trusted"), e)
	c.want(403, "PUT", path(e, "person/brenna"), e)
	c.want(403, "GET", "/v1/other/self", nil)

	reader := c.s.Token(t, "reader", "", "trusted")
	c.token = reader
	c.want(403, "PUT", "/v1/test/blobs/"+digest.Of([]byte("x")).String(), []byte("x"))
	c.want(403, "PUT", path(e, "trusted"), e)

	branch, err := c.s.DB.NewToken(
		ctx,
		records.Token{Repository: c.s.Repo, Name: "pr", WritesTo: "branch/*", ReadsFrom: []string{"branch/fix", "trusted"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	c.token = branch
	c.want(403, "PUT", path(e, "trusted"), e)
	c.want(201, "PUT", path(e, "branch/fix"), e)
	c.want(403, "GET", "/v1/test/runs", nil) // it has no right to view

	for _, bad := range []string{"", "loft-mistyped"} {
		c.token = bad
		c.want(401, "GET", "/v1/test/self", nil)
	}
	past := time.Now().Add(-time.Hour)
	old, err := c.s.DB.NewToken(ctx, records.Token{Repository: c.s.Repo, Name: "old", ExpiresAt: &past})
	if err != nil {
		t.Fatal(err)
	}
	c.token = old
	if b := c.want(401, "GET", "/v1/test/self", nil); !strings.Contains(string(b), "has expired") {
		t.Errorf("%s", b)
	}
	for what, bad := range map[string]records.Token{
		"takes from an untrusted shelf, puts on the trusted one": {Repository: c.s.Repo, Name: "x", WritesTo: "trusted", ReadsFrom: []string{"trusted", "person/x"}},
		"no name":       {Repository: c.s.Repo},
		"no repository": {Name: "x"},
		"no such shelf": {Repository: c.s.Repo, Name: "x", WritesTo: "elsewhere"},
	} {
		if _, err := c.s.DB.NewToken(ctx, bad); err == nil {
			t.Errorf("%s: made", what)
		}
	}
	var stored int
	if err := c.s.DB.Get(&stored, "SELECT count(*) FROM tokens WHERE secret_hash = $1", []byte(good)); err != nil || stored != 0 {
		t.Errorf("the secret itself is stored: %v", err)
	}
}

func TestRunsAreRecordedAndFollowedLive(t *testing.T) {
	c := newCaller(t, ci)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", c.s.URL+"/v1/"+c.s.Repo+"/live", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	live, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer live.Body.Close()
	follow := bufio.NewScanner(live.Body)
	if !follow.Scan() || follow.Text() != "retry: 1000" {
		t.Fatalf("it begins with %q", follow.Text())
	}

	for i := range 3 {
		id := fmt.Sprintf("run-%06d", i)
		started := time.Now().Add(time.Duration(i-5) * time.Minute)
		c.want(
			200,
			"POST",
			"/v1/test/runs",
			protocol.Run{
				ID:        id,
				Name:      "somebody",
				Host:      "h",
				Place:     "harbour-ci",
				Requested: []string{"build"},
				Jobs:      2,
				Tasks:     2,
				Started:   started,
			},
		)
	}
	id := "run-000001"
	rec := protocol.TaskRecord{Task: "build@a", Project: "a", Outcome: "ran", Reason: "new", Seconds: 2, SavedSeconds: 5, Slot: 1}
	events := []protocol.Event{
		{Seq: 1, Start: &protocol.TaskStart{Task: "build@a", Slot: 1}},
		{Seq: 2, Task: &rec},
		{Seq: 3, Finish: &protocol.RunFinish{OK: true, Seconds: 2.5, SavedSeconds: 1e9, CostSeconds: 1, Totals: map[string]int{"ran": 1}}},
	}
	at := "/v1/test/runs/" + id
	c.want(409, "POST", at+"/events", protocol.Events{Events: events[1:]}) // a gap
	c.want(200, "POST", at+"/events", protocol.Events{Events: events[:1]})
	var d protocol.RunDetail
	if err := json.Unmarshal(c.want(200, "GET", at, nil), &d); err != nil || !d.Running || len(d.Starts) != 1 {
		t.Errorf("while it runs: %+v, %v", d, err)
	}
	for range 2 { // sending them again is harmless
		var through protocol.EventsAnswer
		if err := json.Unmarshal(c.want(200, "POST", at+"/events", protocol.Events{Events: events}), &through); err != nil ||
			through.Through != 3 {
			t.Errorf("%+v, %v", through, err)
		}
	}
	if err := json.Unmarshal(c.want(200, "GET", at, nil), &d); err != nil || d.Running || !d.OK || d.Name != "ci" || d.SavedSeconds != 7 ||
		len(d.Records) != 1 {
		t.Errorf("afterwards: %+v, %v", d, err)
	}
	for follow.Scan() {
		if strings.Contains(follow.Text(), id) {
			break
		}
	}
	if !strings.Contains(follow.Text(), id) {
		t.Errorf("the run was not announced: %v", follow.Err())
	}

	var page protocol.RunPage
	if err := json.Unmarshal(c.want(200, "GET", "/v1/test/runs?limit=2", nil), &page); err != nil || len(page.Runs) != 2 ||
		page.Runs[0].ID != "run-000002" ||
		page.Next == "" {
		t.Fatalf("%+v, %v", page, err)
	}
	if err := json.Unmarshal(c.want(200, "GET", "/v1/test/runs?limit=2&after="+page.Next, nil), &page); err != nil || len(page.Runs) != 1 ||
		page.Runs[0].ID != "run-000000" {
		t.Errorf("%+v, %v", page, err)
	}
	var b protocol.Balance
	trial.Wait(t, "the run is rolled up", func() bool {
		return json.Unmarshal(c.want(200, "GET", "/v1/test/balance?days=2", nil), &b) == nil && b.Total.Runs == 1
	})
	if b.Total.SavedSeconds != 7 || len(b.Groups) != 1 || b.Groups[0].Name != "harbour-ci" || len(b.Groups[0].Points) != 1 {
		t.Errorf("%+v", b)
	}
	c.want(404, "GET", "/v1/test/runs/run-nothing", nil)
	c.want(404, "GET", at+"/log?task=build@a", nil)
	c.want(400, "GET", "/v1/test/runs?limit=many", nil)
	c.want(400, "POST", "/v1/test/runs", protocol.Run{ID: "short"})

	other := c.s.Token(t, "other", "person/other", "trusted")
	c.token = other
	c.want(
		403,
		"POST",
		at+"/events",
		protocol.Events{Events: []protocol.Event{{Seq: 4, Finish: &protocol.RunFinish{Totals: map[string]int{}}}}},
	)
}

func TestLimits(t *testing.T) {
	c := newCaller(t, ci)
	many := protocol.Lookup{Tasks: make([]protocol.Query, protocol.MaxLookup+1)}
	c.want(413, "POST", "/v1/test/entries/lookup", many)
	c.want(413, "POST", "/v1/test/blobs/missing", protocol.Digests{Digests: make([]digest.Digest, protocol.MaxDigests+1)})
	c.want(400, "POST", "/v1/test/entries/lookup", map[string]any{"tasks": "none", "extra": 1})
	c.want(200, "GET", "/metrics", nil)
}

func TestTheDocumentNamesServersAndRefusals(t *testing.T) {
	var doc struct {
		Servers []struct{ URL string }
		Paths   map[string]map[string]struct {
			OperationID string
			Responses   map[string]any
		}
	}
	if err := json.Unmarshal(openAPI(t), &doc); err != nil {
		t.Fatal(err)
	}
	if len(doc.Servers) == 0 {
		t.Error("it names no server")
	}
	for path, operations := range doc.Paths {
		for method, op := range operations {
			refusal := false
			for status := range op.Responses {
				refusal = refusal || strings.HasPrefix(status, "4")
			}
			if !refusal {
				t.Errorf("%s %s states no answer between 400 and 499", method, path)
			}
		}
	}
}

func openAPI(t *testing.T) []byte {
	t.Helper()
	b, err := os.ReadFile("openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	return b
}
