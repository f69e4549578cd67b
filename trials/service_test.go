//go:build trials

package trials

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/cluster"
	"grayloft.example/grayloft/internal/trial"
)

// sender sends entries over HTTP, and records which ones the service has
// acknowledged.
type sender struct {
	t     *testing.T
	url   func() string
	token string
	mu    sync.Mutex
	acked map[digest.Digest]digest.Digest // output by key
	tries atomic.Int64
}

func (s *sender) call(method, path string, body []byte) (int, []byte) {
	req, err := http.NewRequest(method, s.url()+"/v1/"+trial.Repository(s.t)+"/"+path, bytes.NewReader(body))
	if err != nil {
		return 0, nil
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	resp, err := http.DefaultClient.Do(req.WithContext(ctx))
	if err != nil {
		return 0, nil
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		return 0, nil
	}
	return resp.StatusCode, text
}

// send files one entry with its own output.
func (s *sender) send(name string, size int) {
	s.tries.Add(1)
	text := bytes.Repeat([]byte(name+"\n"), size/len(name)+1)
	in := &key.Ingredients{Dir: ".", Command: []string{name}, Writes: []string{"out"}, Isolation: "open"}
	list := listing.List{{Path: "out", Kind: listing.File, Size: int64(len(text)), Digest: digest.Of(text)}}
	e := protocol.Entry{
		Key: in.Key(), Task: "t@test", Listing: list.Digest(), Ingredients: digest.Of(in.Encode()),
		MadeBy: protocol.Maker{At: time.Now(), Run: "r"}, Bytes: int64(len(text)),
	}
	for _, b := range [][]byte{text, list.Encode(), in.Encode()} {
		if status, _ := s.call("PUT", "blobs/"+digest.Of(b).String(), b); status != 204 {
			return
		}
	}
	body, _ := json.Marshal(e)
	if status, _ := s.call("PUT", "entries/"+e.Key.String()+"?shelf=trusted", body); status == 200 || status == 201 {
		s.mu.Lock()
		s.acked[e.Key] = digest.Of(text)
		s.mu.Unlock()
	}
}

// count returns the number of acknowledged entries.
func (s *sender) count() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.acked)
}

// check looks up every acknowledged entry and reads its output.
func (s *sender) check() {
	s.t.Helper()
	for k, out := range s.acked {
		body, _ := json.Marshal(protocol.Lookup{Tasks: []protocol.Query{{Task: "t@test", Key: k}}})
		status, answer := s.call("POST", "entries/lookup", body)
		var found protocol.LookupAnswer
		if status != 200 || json.Unmarshal(answer, &found) != nil || len(found.Entries) != 1 {
			s.t.Errorf("an entry that was acknowledged: %d %s", status, answer)
			continue
		}
		status, text := s.call("GET", "blobs/"+out.String(), nil)
		if status != 200 || digest.Of(text) != out {
			s.t.Errorf("the output of an acknowledged entry: %d, %d bytes", status, len(text))
		}
	}
}

func newSender(t *testing.T, token string, url func() string) *sender {
	return &sender{t: t, url: url, token: token, acked: map[digest.Digest]digest.Digest{}}
}

// load sends entries from several goroutines until f returns.
func (s *sender) load(f func()) {
	stop := make(chan struct{})
	var wg sync.WaitGroup
	for w := range 4 {
		wg.Go(func() {
			rnd := rand.New(rand.NewPCG(uint64(w), 9))
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
					s.send(fmt.Sprintf("entry %d of %d", i, w), 1000<<rnd.IntN(10))
				}
			}
		})
	}
	f()
	close(stop)
	wg.Wait()
}

func TestServicesKilledDuringUploadsAndCleanups(t *testing.T) {
	db, data := trial.Database(t), t.TempDir()
	ci := token(t, db, "ci", "trusted", "trusted")
	d := serve(t, db, data, "--cleanup-interval", "50ms", "--uploads", "0")
	s := newSender(t, ci, func() string { return d.url })
	rnd := rand.New(rand.NewPCG(1, 1))
	n := times(100)
	s.load(func() {
		for range n {
			<-time.After(time.Duration(20+rnd.IntN(300)) * time.Millisecond)
			d.kill()
			d.start()
		}
	})
	s.check()
	half, _ := filepath.Glob(filepath.Join(data, "blobs", "tmp", "*"))
	t.Logf(
		"killed %d times; %d of %d entries were acknowledged, and every one is there; %d half-written files lie where nobody reads them",
		n,
		len(s.acked),
		s.tries.Load(),
		len(half),
	)
	if len(s.acked) < n {
		t.Errorf("only %d entries were acknowledged", len(s.acked))
	}
}

func TestTwoReplicasOneOfThemKilled(t *testing.T) {
	backend := s3mem.New()
	if err := backend.CreateBucket("loft"); err != nil {
		t.Fatal(err)
	}
	s3 := httptest.NewServer(gofakes3.New(backend).Server())
	defer s3.Close()
	db := trial.Database(t)
	ci := token(t, db, "ci", "trusted", "trusted")
	env := []string{"GRAYLOFT_BUCKET_KEY=k", "GRAYLOFT_BUCKET_SECRET=s"}
	var replicas [2]*daemon
	for i := range replicas {
		at := port(t)
		replicas[i] = &daemon{t: t, url: "http://" + at, env: env, args: []string{"serve", "--database", db, "--data", t.TempDir(),
			"--bucket", s3.URL + "/loft?region=x", "--listen", at, "--rate", "0", "--cleanup-interval", "100ms"}}
		replicas[i].start()
		t.Cleanup(replicas[i].kill)
	}
	var turn atomic.Int64
	s := newSender(t, ci, func() string { return replicas[turn.Add(1)%2].url })
	n := times(40)
	s.load(func() {
		for i := range n {
			<-time.After(150 * time.Millisecond)
			replicas[i%2].kill()
			<-time.After(50 * time.Millisecond)
			replicas[i%2].start()
		}
	})
	for i := range replicas { // each has all of it
		s.url = func() string { return replicas[i].url }
		s.check()
	}
	t.Logf(
		"one of two replicas killed %d times; %d of %d entries were acknowledged, and each replica has every one",
		n,
		len(s.acked),
		s.tries.Load(),
	)
	if len(s.acked) < n {
		t.Errorf("only %d entries were acknowledged", len(s.acked))
	}
}

func TestABucketThatFailsEveryThirdCall(t *testing.T) {
	h := newHarbour(t)
	backend := s3mem.New()
	if err := backend.CreateBucket("loft"); err != nil {
		t.Fatal(err)
	}
	inner := gofakes3.New(backend).Server()
	var calls, failed atomic.Int64
	s3 := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if calls.Add(1)%3 == 0 {
			failed.Add(1)
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		inner.ServeHTTP(w, r)
	}))
	defer s3.Close()
	db, at := trial.Database(t), port(t)
	ci := token(t, db, "ci", "trusted", "trusted")
	d := &daemon{
		t:   t,
		url: "http://" + at,
		env: []string{"GRAYLOFT_BUCKET_KEY=k", "GRAYLOFT_BUCKET_SECRET=s"},
		args: []string{"serve", "--database", db,
			"--data", t.TempDir(), "--bucket", s3.URL + "/loft?region=x", "--listen", at},
	}
	d.start()
	t.Cleanup(d.kill)
	for v := range versions {
		r := h.Clone().Login(d.url, ci, "ci")
		r.Bin = programs.client
		r.Write("lib/in", fmt.Sprintf("%d\n", v))
		h.check(r, v, "making")
		c := h.Clone().Login(d.url, ci, "home")
		c.Bin = programs.client
		c.Write("lib/in", fmt.Sprintf("%d\n", v))
		if rep := c.Run("gen", "pack", "--fetch", "all"); rep.Totals["ran"] != 0 || rep.Answer.Err != "" {
			t.Errorf("fetching: %v %s", rep.Totals, rep.Answer.Err)
		}
		if outputs(t, c) != h.right[v] {
			t.Error("wrong outputs")
		}
	}
	t.Logf("%d of %d calls to the bucket failed, and nobody noticed", failed.Load(), calls.Load())
}

func TestPostgreSQLStoppedAndStartedUnderLoad(t *testing.T) {
	h := newHarbour(t)
	ctx := context.Background()
	dir := t.TempDir()
	for p := dir; p != os.TempDir(); p = filepath.Dir(p) { // PostgreSQL's own user has to get there
		if err := os.Chmod(p, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	cl, err := cluster.Start(ctx, filepath.Join(dir, "postgres"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cl.Stop() })
	if err := cl.CreateDatabase(ctx, "load"); err != nil {
		t.Fatal(err)
	}
	// It comes back on another port: the service reaches it through a line at a
	// constant address.
	u, err := url.Parse(cl.URL("load"))
	if err != nil {
		t.Fatal(err)
	}
	line := newLine(t, u.Host)
	u.Host = line.addr
	db := u.String()
	ci := token(t, db, "ci", "trusted", "trusted")
	d := serve(t, db, t.TempDir(), "--cleanup-interval", "200ms")
	s := newSender(t, ci, func() string { return d.url })
	n := times(12)
	runs := 0
	s.load(func() {
		for i := range n {
			var wg sync.WaitGroup
			v := i % versions
			r := h.Clone().Login(d.url, ci, "ci")
			r.Bin = programs.client
			r.Write("lib/in", fmt.Sprintf("%d\n", v))
			wg.Go(func() { h.check(r, v, "a run beside it"); runs++ })
			<-time.After(30 * time.Millisecond)
			if err := cl.Stop(); err != nil {
				t.Error(err)
			}
			line.cut()
			wg.Wait()
			if cl, err = cluster.Start(ctx, filepath.Join(dir, "postgres")); err != nil {
				t.Fatal(err)
			}
			at, _ := url.Parse(cl.URL("load"))
			line.to.Store(at.Host)
			trial.Wait(t, "the service to come back by itself", func() bool {
				resp, err := http.Get(d.url + "/healthz")
				if err != nil {
					return false
				}
				resp.Body.Close()
				return resp.StatusCode == 200
			})
			before := s.count()
			trial.Wait(t, "entries to be filed again", func() bool { return s.count() > before+20 })
		}
	})
	s.check()
	t.Logf(
		"stopped and started %d times under load; %d runs beside it had the right outputs, %d of %d entries were acknowledged, and every one is there",
		n,
		runs,
		len(s.acked),
		s.tries.Load(),
	)
}

// line forwards connections, and can cut, slow or stall them.
type line struct {
	addr string
	to   atomic.Value
	mode atomic.Value // "", "slow", "stall", "cut"
	mu   sync.Mutex
	open map[net.Conn]bool
	rnd  *rand.Rand
}

func newLine(t *testing.T, to string) *line {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	ln := &line{addr: l.Addr().String(), open: map[net.Conn]bool{}, rnd: rand.New(rand.NewPCG(7, 7))}
	ln.to.Store(to)
	ln.mode.Store("")
	go func() {
		for {
			a, err := l.Accept()
			if err != nil {
				return
			}
			b, err := net.Dial("tcp", ln.to.Load().(string))
			if err != nil {
				a.Close()
				continue
			}
			ln.mu.Lock()
			ln.open[a], ln.open[b] = true, true
			ln.mu.Unlock()
			go ln.pass(a, b)
			go ln.pass(b, a)
		}
	}()
	return ln
}

func (l *line) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		c.Close()
	}
	clear(l.open)
}

func (l *line) chance() float64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.rnd.Float64()
}

func (l *line) pass(from, to net.Conn) {
	defer func() {
		from.Close()
		to.Close()
		l.mu.Lock()
		delete(l.open, from)
		delete(l.open, to)
		l.mu.Unlock()
	}()
	buf := make([]byte, 16<<10)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			switch l.mode.Load().(string) {
			case "dead": // nothing passes, and nobody is told
				for l.mode.Load() == "dead" {
					<-time.After(50 * time.Millisecond)
				}
			case "slow":
				<-time.After(time.Duration(n) * time.Second / (4 << 20)) // 4 MB/s
			case "stall":
				if l.chance() < 0.05 {
					<-time.After(400 * time.Millisecond)
				}
			case "cut":
				if l.chance() < 0.03 {
					return
				}
			}
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

func TestCutStalledAndSlowConnections(t *testing.T) {
	h := newHarbour(t)
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	ci := token(t, db, "ci", "trusted", "trusted")
	filled := h.Clone().Login(d.url, ci, "ci")
	filled.Bin = programs.client
	for v := range versions - 1 {
		filled.Write("lib/in", fmt.Sprintf("%d\n", v))
		h.check(filled, v, "filling")
	}
	u, _ := url.Parse(d.url)
	ln := newLine(t, u.Host)
	n := times(60)
	rnd := rand.New(rand.NewPCG(3, 3))
	count, warned, ran := map[string]int{}, 0, 0
	for i := range n {
		mode, v := []string{"cut", "stall", "slow"}[i%3], rnd.IntN(versions)
		ln.mode.Store(mode)
		r := h.Clone().Login("http://"+ln.addr, ci, "bad line")
		r.Bin = programs.client
		r.Write("lib/in", fmt.Sprintf("%d\n", v))
		within(t, 2*time.Minute, mode, func() {
			rep := r.Run("gen", "pack", "--fetch", "all")
			if !rep.OK || outputs(t, r) != h.right[v] {
				t.Errorf("%d, over a line that is %s: %v\n%s", i, mode, rep.Totals, rep.Answer.Err)
			}
			if rep.Answer.Err != "" {
				warned++
			}
			if v < versions-1 {
				ran += rep.Totals["ran"]
			}
		})
		count[mode]++
	}
	t.Logf(
		"%v runs; all had the right outputs; %d said that they gave the service up; %d tasks ran that could have been fetched",
		count,
		warned,
		ran,
	)
}

// smallDisk mounts a disk of so many bytes.
func smallDisk(t *testing.T, bytes int) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can mount a small disk")
	}
	dir := t.TempDir()
	if err := syscall.Mount("none", dir, "tmpfs", 0, fmt.Sprintf("size=%d,mode=0755", bytes)); err != nil {
		t.Skipf("a small disk cannot be mounted: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

func TestFullDisks(t *testing.T) {
	h := newHarbour(t)
	// The cache's disk is full: runs are right, and a warning is given.
	cache := h.Clone()
	cache.Bin = programs.client
	disk := smallDisk(t, 2<<20)
	cache.Env = append(cache.Env, "GRAYLOFT_CACHE="+disk)
	a := cache.Grayloft("run", "gen", "pack", "--quiet")
	if a.Code != 0 || outputs(t, cache) != h.right[0] || !strings.Contains(a.Err, "no space left") {
		t.Errorf("the cache's disk is full: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	h.check(cache, 0, "again, with the cache's disk full")
	// The checkout's disk is full: the task fails, and nothing wrong is cached.
	small := smallDisk(t, 2<<20)
	if out, err := exec.Command("git", "clone", "-q", h.Dir, filepath.Join(small, "repo")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	r := h.Clone()
	r.Bin, r.Dir = programs.client, filepath.Join(small, "repo")
	if a := r.Grayloft("run", "gen", "pack"); a.Code != 1 || !strings.Contains(strings.ToLower(a.Out+a.Err), "no space left") {
		t.Errorf("the checkout's disk is full: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if err := syscall.Mount("none", small, "tmpfs", syscall.MS_REMOUNT, "size=64m"); err != nil {
		t.Fatal(err)
	}
	h.check(r, 0, "with room again")
	// The service's disk is full: one warning, right outputs; when there is
	// room again, the rest is sent.
	db := trial.Database(t)
	data := smallDisk(t, 1<<20)
	d := serve(t, db, data)
	ci := token(t, db, "ci", "trusted", "trusted")
	c := h.Clone().Login(d.url, ci, "ci")
	c.Bin = programs.client
	a = c.Grayloft("run", "gen", "pack", "--quiet")
	if a.Code != 0 || outputs(t, c) != h.right[0] || strings.Count(a.Err, "warning:") != 1 {
		t.Errorf("the service's disk is full: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if err := syscall.Mount("none", data, "tmpfs", syscall.MS_REMOUNT, "size=64m"); err != nil {
		t.Fatal(err)
	}
	h.check(c, 0, "with room on the service again")
	other := h.Clone().Login(d.url, ci, "ci")
	other.Bin = programs.client
	if rep := other.Run("gen", "pack"); rep.Totals["ran"] != 0 {
		t.Errorf("what was to be sent was not: %v", rep.Totals)
	}
	t.Log("full disks of the cache, the checkout and the service: no wrong output, and each was said")
}
