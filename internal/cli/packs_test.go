package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

// requestCount counts the requests to a server by method.
type requestCount struct {
	mu  sync.Mutex
	of  map[string]int
	url string
}

func countRequests(t *testing.T, to http.Handler) *requestCount {
	c := &requestCount{of: map[string]int{}}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.mu.Lock()
		c.of[r.Method]++
		c.of[""]++
		c.mu.Unlock()
		to.ServeHTTP(w, r)
	}))
	t.Cleanup(srv.Close)
	c.url = srv.URL
	return c
}

func (c *requestCount) take() map[string]int {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := c.of
	c.of = map[string]int{}
	return out
}

func TestTenThousandSmallFilesAreFewObjectsRequestsFilesAndRows(t *testing.T) {
	t.Parallel()
	backend := s3mem.New()
	if err := backend.CreateBucket("loft"); err != nil {
		t.Fatal(err)
	}
	bucket := countRequests(t, gofakes3.New(backend).Server())
	s := trial.ServeWith(t, func(c *service.Config) {
		c.Bucket, c.BucketKey, c.BucketSecret = bucket.url+"/loft?region=x", "key", "secret"
	})
	to, _ := url.Parse(s.URL)
	front := countRequests(t, httputil.NewSingleHostReverseProxy(to))
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.charts]
run = "mkdir out && awk 'BEGIN { for (i = 0; i < 10000; i++) { f = \"out/\" i; for (j = 0; j < 20; j++) print \"chart \" i > f; close(f) } }'"
reads = []
writes = ["out/**"]
probes = []
`, ".gitignore": "out\n"})
	token := s.Token(t, "ci", "trusted", "trusted")
	c := r.Clone().Login(front.url, token, "laptop")
	r.Login(front.url, token, "ci")
	if rep := r.Run("charts"); !rep.OK {
		t.Fatal(rep.Answer.Err)
	}
	if n := bucket.take()["PUT"]; n > 20 || n == 0 {
		t.Errorf("%d objects were written", n)
	}
	front.take()
	var before int64
	if err := s.DB.Get(&before, `SELECT txid_current()`); err != nil {
		t.Fatal(err)
	}
	if rep := c.Run("charts", "--fetch", "all"); !rep.OK || rep.Totals["fetched"] != 1 {
		t.Fatal(rep.Totals, rep.Answer.Err)
	}
	if n := front.take()[""]; n > 20 || n == 0 {
		t.Errorf("%d requests to the service", n)
	}
	if n := bucket.take()["GET"]; n > 20 || n == 0 {
		t.Errorf("%d requests to the bucket", n)
	}
	if got := c.Read("out/7777"); got != strings.Repeat("chart 7777\n", 20) {
		t.Errorf("%q", got)
	}
	if list, err := os.ReadDir(c.Path("out")); err != nil || len(list) != 10_000 {
		t.Errorf("%d files, %v", len(list), err)
	}
	// What was fetched is kept compressed, and restored from there.
	var st struct {
		Blobs int   `json:"blobs"`
		Plain int64 `json:"blob_bytes"`
		Disk  int64 `json:"disk_bytes"`
	}
	if err := json.Unmarshal([]byte(c.Grayloft("cache", "stats", "--format", "json").Out), &st); err != nil || st.Blobs < 10_000 || st.Disk > st.Plain*2/3 {
		t.Errorf("%+v, %v", st, err)
	}
	restored := func(how string, requests int) {
		t.Helper()
		c.Remove("out")
		front.take()
		rep := c.Run("charts", "--fetch", "all")
		t.Log(rep.Totals, rep.Answer.Err)
		if !rep.OK || rep.Totals["ran"] > 0 {
			t.Error(rep.Totals, rep.Answer.Err)
		}
		n := front.take()["POST"]
		t.Log(n)
		if n > requests {
			t.Errorf("%d requests", n)
		}
		for i := range 10_000 {
			if want := strings.Repeat(fmt.Sprintf("chart %d\n", i), 20); c.Read(fmt.Sprint("out/", i)) != want {
				t.Fatalf("out/%d after restoring: %q", i, c.Read(fmt.Sprint("out/", i)))
			}
		}
	}
	restored("restored", 5)
	// A damaged frame costs one more request, not one for each file in it.
	damageFrame(t, filepath.Join(strings.TrimPrefix(c.Env[0], "GRAYLOFT_CACHE="), "segments"))
	restored("fetched", 5)
	if a := c.Grayloft("cache", "verify"); a.Code != 0 {
		t.Error(a.Out, a.Err)
	}
	files := 0
	cache := strings.TrimPrefix(c.Env[0], "GRAYLOFT_CACHE=")
	_ = filepath.WalkDir(cache, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			files++
		}
		return nil
	})
	if files > 20 {
		t.Errorf("%d files in the cache", files)
	}
	// Fetching changes no row of a blob, and neither does finding out that the service has all.
	changed := func() (n int) {
		if err := s.DB.Get(&n, `SELECT count(*) FROM blobs WHERE xmin::text::bigint > $1`, before); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := changed(); n > 0 {
		t.Errorf("fetching changed %d rows of blobs", n)
	}
	if rep := r.Run("charts", "--no-reuse"); !rep.OK {
		t.Fatal(rep.Answer.Err)
	}
	if n := changed(); n > 20 {
		t.Errorf("the same outputs again changed %d rows of blobs", n)
	}
}

// damageFrame flips a bit of a frame in the only segment of a directory.
func damageFrame(t *testing.T, dir string) {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, "*.tar"))
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	b, err := os.ReadFile(list[0])
	if err != nil {
		t.Fatal(err)
	}
	name := bytes.LastIndex(b, []byte(pack.FrameSuffix+"\x00"))
	if name < 0 {
		t.Fatal("no frame")
	}
	b[name+1000] ^= 1 // behind its header of 512 bytes
	if err := os.WriteFile(list[0], b, 0o644); err != nil {
		t.Fatal(err)
	}
}
