// Package attack carries out attacks on the service, the client and sealed
// tasks, and then looks at the victim: another token's cache, a person's files,
// the service's database. docs/security.md lists what each test shows.
package attack

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

// cannot are the attacks that a machine may be unable to try, with the reason
// that it must give. Any other skipped test fails.
var cannot = map[string]string{
	"user":     "only root can become an ordinary user",
	"terminal": "this machine has no pseudo terminals",
}

// skip skips an attack for a reason that is on the list.
func skip(t *testing.T, why string) {
	t.Helper()
	reason, ok := cannot[why]
	if !ok {
		t.Fatalf("%q is not on the list of what a machine may be unable to try", why)
	}
	t.Skip(reason)
}

// attacker sends requests with a token.
type attacker struct {
	t     *testing.T
	s     *trial.Service
	token string
}

func as(t *testing.T, s *trial.Service, token string) *attacker { return &attacker{t, s, token} }

// person makes an attacker with a personal token.
func person(t *testing.T, s *trial.Service, name string) *attacker {
	return as(t, s, s.Token(t, name, "person/"+name, "person/"+name, "trusted"))
}

// ci makes a client that writes to the trusted shelf.
func ci(t *testing.T, s *trial.Service) *attacker {
	return as(t, s, s.Token(t, "ci", "trusted", "trusted"))
}

// answer is what came back.
type answer struct {
	status int
	body   []byte
	header http.Header
	err    error
}

func (a answer) text() string { return string(a.body) }

// raw sends a request with its own header.
func (a *attacker) raw(method, path string, body io.Reader, length int64, header http.Header) answer {
	a.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	path = strings.Replace(path, "/v1/test/", "/v1/"+a.s.Repo+"/", 1)
	req, err := http.NewRequestWithContext(ctx, method, a.s.URL+path, body)
	if err != nil {
		a.t.Fatal(err)
	}
	req.ContentLength = length
	if a.token != "" {
		req.Header.Set("Authorization", "Bearer "+a.token)
	}
	for k, v := range header {
		req.Header[k] = v
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return answer{err: err}
	}
	defer resp.Body.Close()
	out, err := io.ReadAll(resp.Body)
	return answer{resp.StatusCode, out, resp.Header, err}
}

// send sends JSON, or bytes unchanged.
func (a *attacker) send(method, path string, body any) answer {
	a.t.Helper()
	switch b := body.(type) {
	case nil:
		return a.raw(method, path, nil, 0, nil)
	case []byte:
		return a.raw(method, path, bytes.NewReader(b), int64(len(b)), http.Header{"Content-Type": {"application/octet-stream"}})
	case string:
		return a.raw(method, path, strings.NewReader(b), int64(len(b)), http.Header{"Content-Type": {"application/json"}})
	}
	text, err := json.Marshal(body)
	if err != nil {
		a.t.Fatal(err)
	}
	return a.send(method, path, string(text))
}

// want sends a request that must succeed.
func (a *attacker) want(method, path string, body any) answer {
	a.t.Helper()
	got := a.send(method, path, body)
	if got.err != nil || got.status >= 300 {
		a.t.Fatalf("%s %s: %d %s %v", method, path, got.status, got.body, got.err)
	}
	return got
}

// refused tells whether an answer is a refusal with a problem document.
func refused(t *testing.T, what string, got answer) {
	t.Helper()
	var p protocol.Problem
	if got.err != nil || got.status < 400 || got.status >= 500 || json.Unmarshal(got.body, &p) != nil || p.Title == "" {
		t.Errorf("%s: %d %.200s %v", what, got.status, got.body, got.err)
	}
}

func (a *attacker) put(text []byte) digest.Digest {
	a.t.Helper()
	d := digest.Of(text)
	a.want("PUT", "/v1/test/blobs/"+d.String(), text)
	return d
}

// entry uploads everything that an entry of a task names, and returns the entry.
func (a *attacker) entry(task, content string) protocol.Entry {
	a.t.Helper()
	list := listing.List{{Kind: listing.File, Path: "out", Size: int64(len(content)), Digest: a.put([]byte(content))}}
	in := &key.Ingredients{Dir: "a", Command: []string{task, digest.Of([]byte(content)).String()}}
	return protocol.Entry{
		Key: key.OfEncoded(in.Encode()), Task: task, Listing: a.put(list.Encode()), Ingredients: a.put(in.Encode()), Seconds: 1,
		MadeBy: protocol.Maker{Name: "somebody", Host: "h", Place: "p", Run: "run-0000", At: time.Now()},
	}
}

func (a *attacker) file(e protocol.Entry, shelf string) answer {
	a.t.Helper()
	return a.send("PUT", "/v1/test/entries/"+e.Key.String()+"?shelf="+shelf, e)
}

// finds tells whether a lookup finds an entry, and its output can be had.
func (a *attacker) finds(e protocol.Entry, content string) bool {
	a.t.Helper()
	var found protocol.LookupAnswer
	got := a.want("POST", "/v1/test/entries/lookup", protocol.Lookup{Tasks: []protocol.Query{{Task: e.Task, Key: e.Key}}})
	if err := json.Unmarshal(got.body, &found); err != nil {
		a.t.Fatal(err)
	}
	return len(found.Entries) == 1 && a.send("GET", "/v1/test/blobs/"+digest.Of([]byte(content)).String(), nil).text() == content
}

// clean runs a cleanup of the service, as it does by itself from time to time.
func clean(t *testing.T, s *trial.Service) error {
	t.Helper()
	_, mine, err := s.DB.Cleanup(context.Background(), s.Config.Retention, func(_ context.Context, object string) error {
		return os.Remove(s.Config.Data + "/blobs/" + object)
	})
	if !mine {
		t.Fatal("another cleanup is running")
	}
	return err
}

// count asks the service's database for a number.
func count(t *testing.T, s *trial.Service, query string, args ...any) int64 {
	t.Helper()
	var n int64
	if err := s.DB.Get(&n, query, args...); err != nil {
		t.Fatal(err)
	}
	return n
}

func repository(t *testing.T, s *trial.Service) int64 {
	return count(t, s, "SELECT id FROM repositories WHERE name = $1", s.Repo)
}

func revoke(t *testing.T, s *trial.Service, secret string) {
	t.Helper()
	tok, err := s.DB.FindToken(context.Background(), secret)
	if err == nil {
		err = s.DB.Revoke(context.Background(), tok.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
}
