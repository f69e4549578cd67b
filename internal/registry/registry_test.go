package registry

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/registry/standin"
)

var table = standin.Handler{
	"go":  {"pier.example/fog": {"v1.2.0", "v1.3.0"}, "pier.example/Tide": {"v0.1.0"}},
	"npm": {"drawn": {"2.0.0", "3.1.0"}, "@pier/fog": {"1.0.0"}},
}

// person is a home directory, a repository and an environment.
type person struct {
	home, repository, cache string
	env                     map[string]string
}

func newPerson(t *testing.T, registry string) *person {
	t.Helper()
	return &person{t.TempDir(), t.TempDir(), t.TempDir(), map[string]string{
		"GOPROXY": registry + "/go", "npm_config_registry": registry + "/npm/",
	}}
}

func (p *person) write(t *testing.T, file, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

func (p *person) load() *Registries {
	return Load(func(name string) string { return p.env[name] }, p.home, p.repository, p.cache)
}

func (p *person) ask(t *testing.T, names ...string) (string, []Failure) {
	t.Helper()
	return described(p.load(), t, names...)
}

func described(r *Registries, t *testing.T, names ...string) (string, []Failure) {
	t.Helper()
	var list []check.Package
	for _, n := range names {
		ecosystem, name, _ := strings.Cut(n, ":")
		list = append(list, check.Package{Ecosystem: ecosystem, Name: name})
	}
	var steps atomic.Int32
	found, failures := r.Ask(t.Context(), list, func() { steps.Add(1) })
	if int(steps.Load()) != len(list) {
		t.Errorf("%d steps for %d packages", steps.Load(), len(list))
	}
	var out []string
	for p, versions := range found {
		slices.Sort(versions)
		out = append(out, p.Name+" "+strings.Join(versions, " "))
	}
	slices.Sort(out)
	return strings.Join(out, ", "), failures
}

// counting answers as a handler does, and notes what was asked.
type counting struct {
	http.Handler
	mu    sync.Mutex
	asked []string
	auth  []string
}

func (c *counting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	c.asked = append(c.asked, r.URL.Path)
	c.auth = append(c.auth, r.Header.Get("Authorization"))
	c.mu.Unlock()
	c.Handler.ServeHTTP(w, r)
}

func serve(t *testing.T, h http.Handler) (*counting, string) {
	t.Helper()
	c := &counting{Handler: h}
	s := httptest.NewServer(c)
	t.Cleanup(s.Close)
	return c, s.URL
}

func TestVersionsComeFromTheRegistriesOfThePerson(t *testing.T) {
	c, url := serve(t, table)
	p := newPerson(t, url)
	names := []string{"go:pier.example/fog", "go:pier.example/Tide", "npm:drawn", "npm:@pier/fog", "go:pier.example/none"}
	got, failures := p.ask(t, names...)
	want := "@pier/fog 1.0.0, drawn 2.0.0 3.1.0, pier.example/Tide v0.1.0, pier.example/fog v1.2.0 v1.3.0"
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if len(failures) != 1 || failures[0].Unanswered ||
		!strings.Contains(failures[0].String(), "no such package (for pier.example/none)") {
		t.Errorf("%v", failures)
	}
	if len(c.asked) != len(names) {
		t.Errorf("%d requests for %d packages: %q", len(c.asked), len(names), c.asked)
	}
	if got, _ := p.ask(t, names[:4]...); got != want || len(c.asked) != len(names) {
		t.Errorf("a second time: %s, after %d requests", got, len(c.asked))
	}
	r := p.load()
	r.cache.now = func() time.Time { return time.Now().Add(2 * freshFor) }
	if got, _ := described(r, t, names[:1]...); got != "pier.example/fog v1.2.0 v1.3.0" || len(c.asked) != len(names)+1 {
		t.Errorf("two hours later: %s, after %d requests", got, len(c.asked))
	}
}

func TestAnAnswerThatIsStillRightIsNotSentAgain(t *testing.T) {
	full := 0
	_, url := serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"one"`)
		if r.Header.Get("If-None-Match") == `"one"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		full++
		_, _ = w.Write([]byte("v1.0.0\n"))
	}))
	p := newPerson(t, url)
	for range 2 {
		r := p.load()
		r.cache.now = func() time.Time { return time.Now().Add(time.Duration(full) * 2 * freshFor) }
		if got, _ := described(r, t, "go:pier.example/fog"); got != "pier.example/fog v1.0.0" || full != 1 {
			t.Errorf("%s, sent %d times", got, full)
		}
	}
}

// The proxies are asked in order: the next one where a package is missing, or after any
// failure behind a bar.
func TestProxiesAreAskedInOrder(t *testing.T) {
	_, url := serve(t, table)
	empty, nothing := serve(t, http.NotFoundHandler())
	_, broken := serve(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadGateway) }))
	for proxies, want := range map[string]string{
		nothing + "," + url + "/go,direct": "pier.example/fog v1.2.0 v1.3.0",
		broken + "|" + url + "/go":         "pier.example/fog v1.2.0 v1.3.0",
		broken + "," + url + "/go":         "",
		"direct":                           "",
		"off":                              "",
	} {
		p := newPerson(t, "")
		p.env["GOPROXY"] = proxies
		if got, failures := p.ask(t, "go:pier.example/fog"); got != want || (want == "") != (len(failures) == 1) {
			t.Errorf("%s: %q, %v", proxies, got, failures)
		}
	}
	if len(empty.asked) != 1 {
		t.Errorf("asked %q", empty.asked)
	}
	p := newPerson(t, "")
	delete(p.env, "GOPROXY")
	p.write(t, filepath.Join(p.home, ".config/go/env"), "GOPROXY="+url+"/go\nGOPRIVATE=*.quay.example\n")
	got, failures := p.ask(t, "go:pier.example/fog", "go:git.quay.example/x")
	if got != "pier.example/fog v1.2.0 v1.3.0" || len(failures) != 1 || failures[0].Unanswered ||
		!strings.Contains(failures[0].Problem, "GOPRIVATE") {
		t.Errorf("by the person's file: %q, %v", got, failures)
	}
}

// Credentials go to the address that the person has them for. The repository's own file
// names registries, and no credentials: it is not the person's.
func TestCredentialsGoWhereTheyBelong(t *testing.T) {
	c, url := serve(t, table)
	other, elsewhere := serve(t, table)
	host := strings.TrimPrefix(url, "http://")
	p := newPerson(t, "")
	delete(p.env, "npm_config_registry")
	p.env["GOPROXY"], p.env["DRAWN_TOKEN"] = elsewhere+"/go", "wind"
	p.write(t, filepath.Join(p.home, ".npmrc"), "; mine\nregistry="+elsewhere+"/npm\n//"+host+"/npm/:_authToken=${DRAWN_TOKEN}\n")
	p.write(
		t,
		filepath.Join(p.home, ".netrc"),
		"machine nowhere.example login a password b\nmachine 127.0.0.1\n  login keeper password tide\n",
	)
	p.write(t, filepath.Join(p.repository, ".npmrc"),
		"@pier:registry="+url+"/npm/\n//"+strings.TrimPrefix(elsewhere, "http://")+"/npm/:_authToken=${DRAWN_TOKEN}\n")
	if got, failures := p.ask(t, "npm:@pier/fog", "npm:drawn"); got != "@pier/fog 1.0.0, drawn 2.0.0 3.1.0" {
		t.Errorf("%q, %v", got, failures)
	}
	if !slices.Equal(c.auth, []string{"Bearer wind"}) || !slices.Equal(other.auth, []string{""}) {
		t.Errorf("sent %q to the registry, and %q elsewhere", c.auth, other.auth)
	}
	if _, failures := p.ask(t, "go:pier.example/fog"); len(failures) > 0 || !strings.HasPrefix(other.auth[1], "Basic ") {
		t.Errorf("to the proxy: %q, %v", other.auth, failures)
	}
}

// A path with dots is another team's, and another port another server.
func TestCredentialsAreForOneDirectoryAndPort(t *testing.T) {
	s := npmSettings{map[string]string{}, map[string]string{"//r.example/a/:_authToken": "mine"}}
	for url, want := range map[string]string{
		"https://r.example/a/fog": "Bearer mine", "https://r.example/a/@pier%2ffog": "Bearer mine", "https://r.example/a/../b/fog": "",
		"https://r.example/a/%2e%2e/b/fog": "", "https://r.example/a/..%2fb/fog": "", "https://r.example/b/fog": "", "http://r.example/a/fog": "",
	} {
		r, err := http.NewRequest(http.MethodGet, url, nil)
		if err != nil {
			t.Fatal(err)
		}
		if s.authorize(r); r.Header.Get("Authorization") != want {
			t.Errorf("%s got %q", url, r.Header.Get("Authorization"))
		}
	}
	first, _ := http.NewRequest(http.MethodGet, "https://r.example/a/fog", nil)
	for to, keeps := range map[string]bool{"https://r.example/c": true, "https://r.example:8443/c": false, "https://o.example/c": false} {
		next, _ := http.NewRequest(http.MethodGet, to, nil)
		next.Header.Set("Authorization", "Bearer mine")
		if err := checkRedirect(next, []*http.Request{first}); err != nil || (next.Header.Get("Authorization") != "") != keeps {
			t.Errorf("%s got %q, %v", to, next.Header.Get("Authorization"), err)
		}
	}
}

// A registry that does not answer is tried by at most as many requests as run at a time,
// and what others say is there.
func TestARegistryThatIsDownIsNamedOnce(t *testing.T) {
	_, url := serve(t, table)
	gone := httptest.NewServer(table)
	gone.Close()
	p := newPerson(t, url)
	p.env["npm_config_registry"] = gone.URL
	names := []string{"go:pier.example/fog"}
	for i := range 40 {
		names = append(names, fmt.Sprintf("npm:p%02d", i))
	}
	got, failures := p.ask(t, names...)
	if got != "pier.example/fog v1.2.0 v1.3.0" || len(failures) != 1 || !failures[0].Unanswered || len(failures[0].Packages) != 40 {
		t.Errorf("%q, %v", got, failures)
	}
	if text := failures[0].String(); !strings.Contains(text, "refused") || !strings.Contains(text, "p00, p01, p02 and 37 more") {
		t.Error(text)
	}
}

func TestAFewRequestsAtATime(t *testing.T) {
	var now, most atomic.Int32
	full := make(chan struct{})
	_, url := serve(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		n := now.Add(1)
		defer now.Add(-1)
		if n > most.Load() {
			most.Store(n)
		}
		if n == atATime { // all of them wait for the fourth
			select {
			case <-full:
			default:
				close(full)
			}
		}
		<-full
		_, _ = w.Write([]byte("v1.0.0\n"))
	}))
	var names []string
	for i := range 20 {
		names = append(names, fmt.Sprintf("go:pier.example/p%02d", i))
	}
	if _, failures := newPerson(t, url).ask(t, names...); len(failures) > 0 || most.Load() != atATime {
		t.Errorf("%d at a time, %v", most.Load(), failures)
	}
}

func TestAnswersThatAreNoneAreRefused(t *testing.T) {
	for says, h := range map[string]http.HandlerFunc{
		"not a list":      func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>sign in</html>")) },
		"credentials":     func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusForbidden) },
		"answers 500":     func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) },
		"more than 64 MB": func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(make([]byte, maxAnswer+2)) },
		"many redirects":  func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path+"x", http.StatusFound) },
		"EOF":             func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
		"unexpected EOF": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "9")
			_, _ = w.Write([]byte("v1"))
		},
	} {
		_, url := serve(t, h)
		if _, failures := newPerson(t, url).ask(t, "go:pier.example/fog"); len(failures) != 1 ||
			!strings.Contains(failures[0].Problem, says) {
			t.Errorf("%s: %v", says, failures)
		}
	}
	for _, body := range []string{"[]", "{\"versions\": 3}", "", "null"} {
		if list, err := parsePackage([]byte(body)); len(list) > 0 {
			t.Errorf("%q has versions %q, %v", body, list, err)
		}
	}
	list, err := parsePackage(
		[]byte(`{"versions": {"1.0.0": {"deprecated": "old"}, "2.0.0": {"deprecated": false}, "3": {}, "x\n": {}}}`),
	)
	if slices.Sort(list); err != nil || !slices.Equal(list, []string{"2.0.0", "3"}) {
		t.Errorf("%q, %v", list, err)
	}
}
