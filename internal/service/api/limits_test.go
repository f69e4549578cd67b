package api_test

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

func TestRangesAndPieces(t *testing.T) {
	c := newCaller(t, ci)
	text := strings.Repeat("0123456789", 100)
	d := digest.Of([]byte(text))
	c.want(204, "PUT", "/v1/test/blobs/"+d.String(), []byte(text))
	get := func(query, header string) (int, string, string) {
		t.Helper()
		req, _ := http.NewRequest("GET", c.s.URL+"/v1/"+c.s.Repo+"/blobs/"+d.String()+query, nil)
		req.Header.Set("Authorization", "Bearer "+c.token)
		if header != "" {
			req.Header.Set("Range", header)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b), resp.Header.Get("Content-Range")
	}
	for header, want := range map[string]string{
		"bytes=0-0": text[:1], "bytes=990-": text[990:], "bytes=-5": text[995:], "bytes=17-2000": text[17:], "bytes=10-19": text[10:20],
	} {
		status, got, said := get("", header)
		if status != 206 || got != want || !strings.HasSuffix(said, "/1000") {
			t.Errorf("%s: %d %q (%s)", header, status, got, said)
		}
	}
	for _, header := range []string{"bytes=5-4", "bytes=x-", "lines=1-2", "bytes=1000-"} {
		if status, got, _ := get("", header); status != 416 || strings.Contains(got, text[:20]) {
			t.Errorf("%s: %d, %d bytes", header, status, len(got))
		}
	}
	if status, got, _ := get("", "bytes=0-1,3-4"); status != 206 || !strings.Contains(got, "\r\n\r\n01\r\n") ||
		!strings.Contains(got, "\r\n\r\n34\r\n") {
		t.Errorf("two ranges: %d %q", status, got)
	}
	if status, got, _ := get("?from=995&length=100", ""); status != 200 || got != text[995:] {
		t.Errorf("a piece: %d %q", status, got)
	}
	for _, q := range []string{"?from=1000&length=1", "?from=-1&length=1", "?from=0&length=0", "?from=x&length=1"} {
		c.want(400, "GET", "/v1/test/blobs/"+d.String()+q, nil)
	}
}

func TestATokenHasARequestRate(t *testing.T) {
	s := trial.ServeWith(t, func(c *service.Config) { c.Limits.Rate = 5 })
	c := callerOf(t, s, ci)
	turned := 0
	for range 40 {
		if status, _ := c.call("GET", "/v1/test/self", nil); status == 429 {
			turned++
		}
	}
	if turned < 15 || turned > 35 {
		t.Errorf("%d of 40 requests were turned away", turned)
	}
	if metrics := string(get(t, s.URL+"/metrics")); !strings.Contains(
		metrics,
		`grayloft_http_requests_limited_total{limit="rate"} `+fmt.Sprint(turned),
	) {
		t.Errorf("the metrics do not count %d", turned)
	}
}

func get(t *testing.T, url string) []byte {
	t.Helper()
	resp, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestUploadsWaitForTheirTurn(t *testing.T) {
	s := trial.ServeWith(t, func(c *service.Config) { c.Limits.Uploads = 1 })
	c := callerOf(t, s, ci)
	// An upload that never ends occupies the only slot.
	body, feed := io.Pipe()
	text := []byte("slow tide")
	req, _ := http.NewRequest("PUT", s.URL+"/v1/"+s.Repo+"/blobs/"+digest.Of(text).String(), body)
	req.ContentLength = int64(len(text))
	req.Header.Set("Authorization", "Bearer "+c.token)
	var wg sync.WaitGroup
	wg.Go(func() {
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != 204 {
			t.Errorf("the first: %v %v", resp, err)
			return
		}
		resp.Body.Close()
	})
	_, _ = feed.Write(text[:3])
	trial.Wait(t, "the first upload to begin", func() bool {
		return strings.Contains(string(get(t, s.URL+"/metrics")), "grayloft_uploads_in_progress 1")
	})
	other := []byte("other")
	if status, _ := c.call("PUT", "/v1/test/blobs/"+digest.Of(other).String(), other); status != 429 {
		t.Errorf("beside it: %d", status)
	}
	_, _ = feed.Write(text[3:])
	feed.Close()
	wg.Wait()
	c.want(204, "PUT", "/v1/test/blobs/"+digest.Of(other).String(), other)
}

func TestAQuotaIsEnforced(t *testing.T) {
	s := trial.ServeWith(t, func(c *service.Config) { c.Retention.Quota = 4000 })
	c := callerOf(t, s, ci)
	blob := func(i int) (string, []byte) {
		text := []byte(strings.Repeat(fmt.Sprint(i), 300))
		return "/v1/test/blobs/" + digest.Of(text).String(), text
	}
	for i := range 3 {
		path, text := blob(i)
		c.want(204, "PUT", path, text)
	}
	path, text := blob(3)
	if status, answer := c.call("PUT", path, text); status != 507 || !strings.Contains(string(answer), "3972 of 4000") {
		t.Errorf("%d %s", status, answer)
	}
	first, want := blob(0)
	if status, got := c.call("GET", first, nil); status != 200 || string(got) != string(want) {
		t.Errorf("what is there cannot be had: %d", status)
	}
}

func TestATokenGetsANewSecret(t *testing.T) {
	c := newCaller(t, ci)
	old := c.token
	var r protocol.Rotated
	if err := json.Unmarshal(c.want(200, "POST", "/v1/test/self/rotate", nil), &r); err != nil {
		t.Fatal(err)
	}
	if r.Token == old || time.Until(r.OldUntil) < 50*time.Minute || time.Until(r.OldUntil) > 70*time.Minute {
		t.Errorf("%+v", r)
	}
	for what, secret := range map[string]string{"the old": old, "the new": r.Token} {
		c.token = secret
		if status, _ := c.call("GET", "/v1/test/self", nil); status != 200 {
			t.Errorf("%s one: %d", what, status)
		}
	}
	if _, err := c.s.DB.Exec("UPDATE tokens SET old_until = now() - interval '1 second' WHERE repository_id = (SELECT id FROM repositories WHERE name = $1)", c.s.Repo); err != nil {
		t.Fatal(err)
	}
	c.token = old
	trial.Wait(t, "the old one to end", func() bool { status, _ := c.call("GET", "/v1/test/self", nil); return status == 401 })
	c.token = r.Token
	c.want(200, "GET", "/v1/test/self", nil)
}

// Whatever is sent as a pack, the service answers, and stores only blobs that
// match their digests.
func TestPacksOfAnyShapeAreAnswered(t *testing.T) {
	c := newCaller(t, ci)
	rnd := rand.New(rand.NewPCG(31, 32))
	var right bytes.Buffer
	var framed []byte
	tw := tar.NewWriter(&right)
	for i := range 5 {
		text := bytes.Repeat([]byte{byte('a' + i)}, 100*i)
		framed = append(framed, pack.Frame(digest.Of(text), text)...)
		_ = tw.WriteHeader(&tar.Header{Name: digest.Of(text).String(), Size: int64(len(text)), Mode: 0o444, Format: tar.FormatUSTAR})
		_, _ = tw.Write(text)
	}
	tw.Close()
	var several []pack.Blob
	for i := range 5 {
		text := bytes.Repeat([]byte{byte('k' + i)}, 90*i)
		several = append(several, pack.Blob{Digest: digest.Of(text), Text: text})
	}
	framed = append(framed, pack.Join(several)...)
	enc, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	taken := 0
	for n := range 900 {
		body, form := bytes.Clone(right.Bytes()), protocol.TypePack
		if n%3 == 0 {
			body, form = append(bytes.Clone(framed), pack.End()...), protocol.TypeFrames
		}
		for range rnd.IntN(4) {
			body[rnd.IntN(len(body))] = byte(rnd.Uint32())
		}
		if rnd.IntN(4) == 0 {
			body = body[:rnd.IntN(len(body))]
		}
		encoding := ""
		switch kind := rnd.IntN(4); {
		case form == protocol.TypeFrames, kind == 0:
			encoding = "zstd" // which it may not match
		case kind == 1:
			encoding, body = "zstd", enc.EncodeAll(body, nil)
			if rnd.IntN(2) == 0 {
				body[rnd.IntN(len(body))] ^= 1 << rnd.IntN(8)
			}
		}
		req, _ := http.NewRequest("POST", c.s.URL+"/v1/"+c.s.Repo+"/packs", bytes.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+c.token)
		req.Header.Set("Content-Type", form)
		if encoding != "" {
			req.Header.Set("Content-Encoding", encoding)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		var results protocol.PackAnswer
		switch {
		case err != nil || resp.StatusCode >= 500:
			t.Fatalf("%d %s %v", resp.StatusCode, answer, err)
		case resp.StatusCode != 200:
			continue
		}
		if err := json.Unmarshal(answer, &results); err != nil {
			t.Fatal(err)
		}
		for _, r := range results.Results {
			if !r.OK {
				continue
			}
			taken++
			if _, text := c.call("GET", "/v1/test/blobs/"+r.Digest.String(), nil); digest.Of(text) != r.Digest {
				t.Errorf("it took %s, and gives %d bytes with another digest", r.Digest.Short(), len(text))
			}
		}
	}
	if taken < 700 {
		t.Errorf("only %d members were taken", taken)
	}
}

func TestUnreferencedBlobsAreDeletedFromDiskAndMetrics(t *testing.T) {
	s := trial.ServeWith(t, func(c *service.Config) { c.CleanupInterval = 20 * time.Millisecond })
	c := callerOf(t, s, ci)
	text := []byte("nobody names this")
	c.want(204, "PUT", "/v1/test/blobs/"+digest.Of(text).String(), text)
	stored := func(what, n string) func() bool {
		return func() bool {
			return strings.Contains(string(get(t, s.URL+"/metrics")), `grayloft_stored_`+what+`{repo="`+s.Repo+`"} `+n+"\n")
		}
	}
	trial.Wait(t, "the metrics to count it", stored("bytes", "17"))
	exec := func(query string) {
		t.Helper()
		if _, err := s.DB.Exec(query); err != nil {
			t.Fatal(err)
		}
	}
	exec("UPDATE blobs SET leased_until = now() - interval '1 minute'")
	trial.Wait(t, "it to be marked for deletion", stored("marked_bytes", "17"))
	exec("UPDATE blobs SET marked_at = now() - interval '3 days'")
	trial.Wait(t, "it to go", stored("blobs", "0"))
	trial.Wait(t, "its file to go", func() bool {
		left := 0
		_ = filepath.WalkDir(filepath.Join(s.Config.Data, "blobs"), func(_ string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				left++
			}
			return nil
		})
		return left == 0
	})
	if metrics := string(get(t, s.URL+"/metrics")); !strings.Contains(metrics, `grayloft_cleanup_deleted_bytes_total 17`) {
		t.Error("the deleted bytes are not counted")
	}
}

func TestALookupCountsAsAUse(t *testing.T) {
	s := trial.ServeWith(t, func(*service.Config) {})
	c := callerOf(t, s, ci)
	k := digest.Of([]byte("k"))
	if _, err := s.DB.Exec(`INSERT INTO entries (repository_id, shelf, key, task, listing, ingredients, seconds, bytes, made_name, made_host, made_place, made_run, made_at, token_id, last_used)
		VALUES (1, 'trusted', $1, 't', $1, $1, 1, 1, 'a', 'a', 'a', 'a', now(), 1, current_date - 20)`, k[:]); err != nil {
		t.Fatal(err)
	}
	c.want(200, "POST", "/v1/test/entries/lookup", protocol.Lookup{Tasks: []protocol.Query{{Task: "t", Key: k}}})
	var days int
	if err := s.DB.Get(&days, "SELECT current_date - last_used FROM entries"); err != nil || days != 20 {
		t.Errorf("a lookup writes: %d, %v", days, err)
	}
	if err := s.Stop(); err != nil { // which records the collected uses
		t.Fatal(err)
	}
	if err := s.DB.Get(&days, "SELECT current_date - last_used FROM entries"); err != nil || days > 1 {
		t.Errorf("after it: %d days ago, %v", days, err)
	}
}
