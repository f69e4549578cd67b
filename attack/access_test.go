package attack

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

// browser signs in as a page of the console does, and returns its cookies.
func browser(t *testing.T, s *trial.Service, token string) (*http.Client, protocol.SignedIn) {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	c := &http.Client{Jar: jar, Transport: http.DefaultTransport}
	resp, err := c.Post(s.URL+"/session", "application/json", strings.NewReader(fmt.Sprintf(`{"token":%q}`, token)))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var in protocol.SignedIn
	if err := json.NewDecoder(resp.Body).Decode(&in); err != nil || resp.StatusCode != 200 {
		t.Fatal(resp.Status, err)
	}
	return c, in
}

func status(t *testing.T, c *http.Client, method, url, body string, header ...string) int {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := c.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	return resp.StatusCode
}

func TestAStolenCookieIsNotTheToken(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	token := s.Token(t, "kari", "person/kari", "trusted")
	victim, in := browser(t, s, token)
	// A page on another port of the same host receives the cookie.
	var stolen *http.Cookie
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if list := r.Cookies(); len(list) > 0 {
			stolen = list[0]
		}
	}))
	defer other.Close()
	status(t, victim, "GET", other.URL, "")
	if stolen == nil {
		t.Fatal("the cookie was not sent to the other port, so this test shows nothing")
	}
	if strings.Contains(stolen.Value, token) || strings.Contains(token, stolen.Value) {
		t.Error("the cookie is the token")
	}
	thief := as(t, s, "")
	cookie := http.Header{"Cookie": {stolen.String()}}
	text := []byte("poison")
	refused(t, "uploading with the cookie", thief.raw("PUT", "/v1/test/blobs/"+digest.Of(text).String(), strings.NewReader(string(text)), int64(len(text)), cookie))
	refused(t, "rotating with the cookie", thief.raw("POST", "/v1/test/self/rotate", nil, 0, cookie))
	refused(t, "the cookie as a bearer token", as(t, s, stolen.Value).send("GET", "/v1/test/self", nil))
	foreign := cookie.Clone()
	foreign.Set("Origin", "http://127.0.0.1:1")
	foreign.Set("X-Page-Token", in.PageToken)
	refused(t, "writing from another origin", thief.raw("POST", "/v1/test/blobs/missing", strings.NewReader(`{"digests":[]}`), 14, foreign))
	if n := count(t, s, "SELECT count(*) FROM sessions WHERE encode(id_hash, 'escape') LIKE '%' || $1 || '%'", stolen.Value); n != 0 {
		t.Error("the session's id is stored as it is")
	}
	// The page itself may.
	if got := status(t, victim, "POST", s.URL+"/v1/"+s.Repo+"/blobs/missing", `{"digests":[]}`, "X-Page-Token", in.PageToken,
		"Content-Type", "application/json", "Origin", s.URL); got != 200 {
		t.Errorf("the page itself: %d", got)
	}
}

func TestAnotherSiteCannotSignABrowserIn(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	body := fmt.Sprintf(`{"token":%q}`, s.Token(t, "mallory", "person/mallory", "trusted"))
	for name, header := range map[string][]string{
		"a form":                      {"Content-Type", "text/plain"},
		"a form with a foreign page":  {"Content-Type", "text/plain", "Origin", "http://mallory.example"},
		"a script of another site":    {"Content-Type", "application/json", "Origin", "http://mallory.example"},
		"another port of this host":   {"Content-Type", "application/json", "Origin", "http://127.0.0.1:1"},
		"a page that hides its place": {"Content-Type", "application/json", "Origin", "null"},
		"what a browser calls so":     {"Content-Type", "application/json", "Sec-Fetch-Site", "cross-site"},
	} {
		if got := status(t, http.DefaultClient, "POST", s.URL+"/session", body, header...); got < 400 || got >= 500 {
			t.Errorf("%s: %d", name, got)
		}
	}
}

func TestASessionEndsWithItsToken(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	for name, end := range map[string]func(token string){
		"revoked": func(token string) { revoke(t, s, token) },
		"rotated": func(token string) { as(t, s, token).want("POST", "/v1/test/self/rotate", nil) },
		"expired": func(token string) {
			tok, err := s.DB.FindToken(context.Background(), token)
			if err == nil {
				_, err = s.DB.Exec("UPDATE tokens SET expires_at = now() WHERE id = $1", tok.ID)
			}
			if err != nil {
				t.Fatal(err)
			}
		},
	} {
		token := s.Token(t, name, "person/"+name, "trusted")
		c, _ := browser(t, s, token)
		if got := status(t, c, "GET", s.URL+"/v1/"+s.Repo+"/runs", ""); got != 200 {
			t.Fatal(got)
		}
		end(token)
		trial.Wait(t, "the session to end, "+name, func() bool { return status(t, c, "GET", s.URL+"/v1/"+s.Repo+"/runs", "") == 401 })
	}
}

func TestASecretThatWasRotatedOutCannotRotate(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	old := person(t, s, "kari")
	var fresh protocol.Rotated
	if err := json.Unmarshal(old.want("POST", "/v1/test/self/rotate", nil).body, &fresh); err != nil {
		t.Fatal(err)
	}
	refused(t, "the old one rotates", old.send("POST", "/v1/test/self/rotate", nil))
	owner := as(t, s, fresh.Token)
	owner.want("GET", "/v1/test/self", nil)
	// Two rotations at the same moment: only one of them gets a secret.
	var mu sync.Mutex
	won := 0
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			if owner.send("POST", "/v1/test/self/rotate", nil).status == 200 {
				mu.Lock()
				won++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d of 8 rotations at the same moment gave a secret", won)
	}
}

// drip opens a request whose body arrives slowly, and returns when the service
// has ended it.
func drip(t *testing.T, s *trial.Service, token, method, path, kind string, length int, every time.Duration) (ended chan time.Duration) {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	fmt.Fprintf(conn, "%s /v1/%s%s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n{",
		method, s.Repo, path, token, kind, length)
	ended = make(chan time.Duration, 1)
	began := time.Now()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(io.Discard, conn)
		ended <- time.Since(began)
	}()
	if every > 0 {
		go func() {
			tick := time.NewTicker(every)
			defer tick.Stop()
			for {
				select {
				case <-done:
					return
				case <-tick.C:
					_, _ = conn.Write([]byte(" "))
				}
			}
		}()
	}
	return ended
}

func TestSlowBodiesBlockNobody(t *testing.T) {
	s := trial.ServeWith(t, func(c *service.Config) { c.Limits.Uploads = 8 })
	mallory, honest := person(t, s, "mallory"), ci(t, s)
	blob := "/blobs/" + digest.Of([]byte("never sent")).String()
	var all []chan time.Duration
	for range 8 {
		all = append(all, drip(t, s, mallory.token, "PUT", blob, "application/octet-stream", 1<<20, 0))
	}
	all = append(all,
		drip(t, s, mallory.token, "POST", "/entries/lookup", "application/json", 4<<20, 0),
		drip(t, s, mallory.token, "POST", "/blobs/missing", "application/json", 200<<10, time.Second),
		drip(t, s, mallory.token, "POST", "/packs", protocol.TypePack, 1<<20, 2*time.Second))
	trial.Wait(t, "the slow uploads to begin", func() bool {
		return strings.Contains(as(t, s, "").send("GET", "/metrics", nil).text(), "grayloft_uploads_in_progress 2")
	})
	began := time.Now()
	text := []byte("an honest upload")
	if got := honest.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text); got.status != 204 || time.Since(began) > 2*time.Second {
		t.Errorf("an honest upload: %d after %s", got.status, time.Since(began))
	}
	for i, ended := range all {
		select {
		case took := <-ended:
			if took > 25*time.Second {
				t.Errorf("slow body %d was open for %s", i, took)
			}
		case <-time.After(30 * time.Second):
			t.Errorf("slow body %d is still open", i)
		}
	}
}

func TestLargeListingsTakeLittleMemory(t *testing.T) {
	s := trial.ServeWith(t, func(*service.Config) {})
	a := person(t, s, "mallory")
	d := a.put([]byte("x"))
	var list listing.List
	for i := range 250_000 {
		list = append(list, listing.Row{Kind: listing.File, Size: 1, Digest: d, Path: fmt.Sprintf("dir%03d/%06d", i/1000, i)})
	}
	text := list.Encode()
	list = nil
	for from := 0; from < len(text); from += 1 << 20 { // in pieces, as a client sends it
		a.put(text[from:min(from+1<<20, len(text))])
	}
	in := &key.Ingredients{Dir: "a", Command: []string{"large"}}
	e := protocol.Entry{Key: key.OfEncoded(in.Encode()), Task: "build@a", Listing: a.put(text), Ingredients: a.put(in.Encode()),
		MadeBy: protocol.Maker{At: time.Now()}}
	runtime.GC()
	most := watchMemory(t)
	var wg sync.WaitGroup
	for range 16 {
		wg.Go(func() { a.file(e, "person/mallory") })
	}
	wg.Wait()
	if n := most(); n > 900<<20 {
		t.Errorf("16 listings of %d MB at a time took %d MB", len(text)>>20, n>>20)
	}
}

// watchMemory returns a function that tells how many bytes this process, which
// the service is a part of, took in addition at most.
func watchMemory(t *testing.T) func() uint64 {
	t.Helper()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	stop, done := make(chan struct{}), make(chan uint64)
	go func() {
		most := uint64(0)
		tick := time.NewTicker(5 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				done <- most
				return
			case <-tick.C:
				var now runtime.MemStats
				runtime.ReadMemStats(&now)
				most = max(most, now.HeapAlloc-min(now.HeapAlloc, before.HeapAlloc))
			}
		}
	}()
	return func() uint64 { close(stop); return <-done }
}

func TestInventedMethodsDoNotFillTheMetrics(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	stranger := as(t, s, "")
	for i := range 300 {
		stranger.raw(fmt.Sprintf("INVENTED%04d", i), "/v1/test/self", nil, 0, nil)
		stranger.raw("GET", fmt.Sprintf("/invented/%04d", i), nil, 0, nil)
	}
	metrics := stranger.send("GET", "/metrics", nil).text()
	if strings.Contains(metrics, "INVENTED") || strings.Contains(metrics, "/invented/") || !strings.Contains(metrics, `method="other"`) {
		t.Errorf("%d bytes of metrics, with what a stranger invented", len(metrics))
	}
}

func TestGuessingTokensIsLimitedBeforeTheDatabaseIsAsked(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(*service.Config) {})
	honest := ci(t, s)
	honest.want("GET", "/v1/test/self", nil)
	limited := 0
	for i := range 200 {
		a := as(t, s, fmt.Sprint("loft-guess", i))
		if i%2 == 0 {
			a.token = ""
			if a.raw("GET", "/v1/test/self", nil, 0, http.Header{"Cookie": {fmt.Sprint("grayloft_session=guess", i)}}).status == 429 {
				limited++
			}
			continue
		}
		if a.send("GET", "/v1/test/self", nil).status == 429 {
			limited++
		}
		honest.want("GET", "/v1/test/self", nil)
	}
	if limited < 100 {
		t.Errorf("only %d of 200 guesses were refused", limited)
	}
	time.Sleep(1100 * time.Millisecond) // longer than the service remembers the answer of its database
	honest.want("GET", "/v1/test/self", nil)
}

func TestAStreamEndsWhenItsTokenIsRevoked(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	for _, by := range []string{"a token", "a session"} {
		token := s.Token(t, "leaver "+by, "", "trusted")
		client, header := http.DefaultClient, "Bearer "+token
		if by == "a session" {
			client, _ = browser(t, s, token)
			header = ""
		}
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		req, _ := http.NewRequestWithContext(ctx, "GET", s.URL+"/v1/"+s.Repo+"/live", nil)
		if header != "" {
			req.Header.Set("Authorization", header)
		}
		resp, err := client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		lines := bufio.NewScanner(resp.Body)
		if !lines.Scan() {
			t.Fatal("the stream does not begin")
		}
		revoke(t, s, token)
		for lines.Scan() {
		}
		if ctx.Err() != nil {
			t.Errorf("the stream of %s goes on after it was revoked", by)
		}
	}
}

func TestNoRequestMakesTheServiceFail(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	a := ci(t, s)
	zero := strings.Repeat("0", 64)
	run := `{"id":"run-00000n","name":"","host":"","place":"a\u0000b","branch":"","commit":"","shelf":"","requested":[],"no_reuse":false,"jobs":1,"tasks":1,"started":"2026-11-20T00:00:00Z"}`
	for name, got := range map[string]answer{
		"NUL in a text":            a.send("POST", "/v1/test/runs", run),
		"NUL in a query":           a.send("GET", "/v1/test/last-good?branch=a%00b", nil),
		"NUL in a path":            a.send("GET", "/v1/test/runs/a%00b", nil),
		"bytes that are not UTF-8": a.send("GET", "/v1/test/entries?task=%ff%fe", nil),
		"not UTF-8 in a shelf":     a.send("PUT", "/v1/test/entries/"+zero+"?shelf=%ff", protocol.Entry{}),
		"the zero digest":          a.send("GET", "/v1/test/blobs/"+zero, nil),
		"the zero digest, sent":    a.send("PUT", "/v1/test/blobs/"+zero, []byte("x")),
		"assembled":                a.send("POST", "/v1/test/blobs/"+zero+"/assembly", `{"size":1,"pieces":["`+zero+`"]}`),
		"divided":                  a.send("POST", "/v1/test/parts/"+zero, `{"tasks":["a\u0000"]}`),
		"a zero log":               a.send("POST", "/v1/test/runs/run-none/events", `{"events":[{"seq":1,"task":{"log":"`+zero+`"}}]}`),
		"an empty event":           a.send("POST", "/v1/test/runs/run-none/events", `{"events":[{"seq":1}]}`),
		"a negative number":        a.send("POST", "/v1/test/runs/run-none/events", `{"events":[{"seq":-1,"finish":{}}]}`),
		"a number without an end":  a.send("GET", "/v1/test/runs?limit="+strings.Repeat("9", 400), nil),
		"nothing that is asked":    a.send("POST", "/v1/test/entries/lookup", `{"tasks":[{"task":"x","key":"`+zero+`"},null]}`),
	} {
		var p protocol.Problem
		if got.err != nil || got.status >= 500 {
			t.Errorf("%s: %d %.200s %v", name, got.status, got.body, got.err)
		}
		if got.status >= 400 && (json.Unmarshal(got.body, &p) != nil || !strings.HasPrefix(p.Instance, "urn:uuid:") || got.header.Get("X-Request-Id") == "") {
			t.Errorf("%s: no problem document with the id of the request: %s", name, got.text())
		}
	}
}

// daemon is grayloftd as a process.
type daemon struct {
	t    *testing.T
	cmd  *exec.Cmd
	data string
	url  string
	out  *strings.Builder
}

// programs builds both programs once.
var programs = sync.OnceValues(func() (dir string, err error) {
	dir, err = os.MkdirTemp("", "grayloft-attack-")
	if err == nil {
		trial.AtEnd(func() { os.RemoveAll(dir) })
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		var out []byte
		if out, err = exec.Command("go", "build", "-trimpath", "-o", dir+"/", "grayloft.example/grayloft/cmd/...").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
	}
	return dir, err
})

func program(t *testing.T, name string) string {
	t.Helper()
	dir, err := programs()
	if err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, name)
}

// openDir makes a directory that every user can reach.
func openDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "grayloft-attack-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func startDaemon(t *testing.T, data string) (*daemon, error) {
	t.Helper()
	ready := filepath.Join(t.TempDir(), "ready")
	d := &daemon{t: t, data: data, out: &strings.Builder{}}
	d.cmd = exec.Command(program(t, "grayloftd"), "serve", "--data", data, "--listen", "127.0.0.1:0", "--ready-file", ready)
	d.cmd.Stdout, d.cmd.Stderr = d.out, d.out
	if err := d.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	exited := make(chan error, 1)
	go func() { exited <- d.cmd.Wait() }()
	t.Cleanup(func() { _ = d.cmd.Process.Signal(syscall.SIGTERM); <-exited; exited <- nil })
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		select {
		case err := <-exited:
			exited <- nil
			return d, fmt.Errorf("%w: %s", err, d.out)
		default:
		}
		if text, err := os.ReadFile(ready); err == nil && len(text) > 0 {
			d.url = strings.TrimSpace(string(text))
			return d, nil
		}
	}
	t.Fatal("the service does not start:", d.out)
	return nil, nil
}

func (d *daemon) healthy() bool {
	resp, err := http.Get(d.url + "/healthz")
	if err != nil {
		return false
	}
	resp.Body.Close()
	return resp.StatusCode == 200
}

// postgres returns the process id of the private server.
func (d *daemon) postgres() int {
	text, _ := os.ReadFile(filepath.Join(d.data, "postgres", "postmaster.pid"))
	pid := 0
	_, _ = fmt.Sscan(string(text), &pid)
	return pid
}

func TestThePrivatePostgreSQLComesBackAndBelongsToOneService(t *testing.T) {
	t.Parallel()
	data := openDir(t)
	d, err := startDaemon(t, data)
	if err != nil {
		t.Fatal(err)
	}
	// Killed, it is started again.
	first := d.postgres()
	if err := syscall.Kill(first, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	waitLong(t, "the killed PostgreSQL to come back", func() bool { return d.postgres() != first && d.healthy() })
	// A second service on the same data is refused, and harms nothing.
	if _, err := startDaemon(t, data); err == nil || !strings.Contains(err.Error(), "is in use") {
		t.Errorf("a second service on the same data: %v", err)
	}
	if out, err := exec.Command(program(t, "grayloftd"), "retention", "--data", data).CombinedOutput(); err != nil {
		t.Errorf("a command beside it: %v %s", err, out)
	}
	if !d.healthy() {
		t.Error("the first service lost its database")
	}
	// The service itself is killed; the next one takes the server over, and stops it.
	pid := d.postgres()
	if err := d.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	// Until it is gone, the data directory is its own.
	waitLong(t, "the killed service to be gone", func() bool { return syscall.Kill(d.cmd.Process.Pid, 0) != nil })
	next, err := startDaemon(t, data)
	if err != nil {
		t.Fatal(err)
	}
	if next.postgres() != pid {
		t.Error("it was not taken over")
	}
	if err := next.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	waitLong(t, "PostgreSQL to stop with the service", func() bool { return syscall.Kill(pid, 0) != nil })
}

func waitLong(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(40 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("timed out waiting for: %s", what)
}

func TestEntriesAndLastGoodShowOnlyWhatATokenReads(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	kari, mallory := person(t, s, "kari"), person(t, s, "mallory")
	e := kari.entry("build@a", "kari's own")
	kari.file(e, "person/kari")
	if got := mallory.want("GET", "/v1/test/entries?task=build@a", nil); strings.Contains(got.text(), e.Key.String()) {
		t.Error("entries of another person's shelf are listed")
	}
	alone := as(t, s, s.Token(t, "alone", "branch/x", "branch/x"))
	refused(t, "commits of the trusted shelf for who does not read it", alone.send("GET", "/v1/test/last-good", nil))
	mallory.want("GET", "/v1/test/last-good", nil)
}

func TestBrowsersAreToldWhatNotToDo(t *testing.T) {
	t.Parallel()
	cert, keyFile := trial.Certificate(t)
	secure := trial.ServeWith(t, func(c *service.Config) { c.CertFile, c.KeyFile = cert, keyFile })
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	resp, err := client.Post(secure.URL+"/session", "application/json",
		strings.NewReader(fmt.Sprintf(`{"token":%q}`, secure.Token(t, "kari", "", "trusted"))))
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	cookie := resp.Header.Get("Set-Cookie")
	for _, part := range []string{"__Host-", "Secure", "HttpOnly", "SameSite=Strict", "Path=/"} {
		if !strings.Contains(cookie, part) {
			t.Errorf("the cookie lacks %s: %s", part, cookie)
		}
	}
	for name, want := range map[string]string{"Strict-Transport-Security": "max-age=", "X-Content-Type-Options": "nosniff", "X-Frame-Options": "DENY"} {
		if got := resp.Header.Get(name); !strings.Contains(got, want) {
			t.Errorf("%s: %q", name, got)
		}
	}
	plain := as(t, trial.Serve(t), "").send("GET", "/healthz", nil)
	if plain.header.Get("Strict-Transport-Security") != "" || plain.header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("without TLS: %v", plain.header)
	}
}
