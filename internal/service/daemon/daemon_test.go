package daemon_test

import (
	"bytes"
	"context"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/service/daemon"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

func call(ctx context.Context, args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = daemon.Main(ctx, args, &o, &e)
	return code, o.String(), e.String()
}

// dir is a directory that PostgreSQL's own user can reach, as a real one would
// be.
func dir(t *testing.T) string {
	t.Helper()
	d, err := os.MkdirTemp("", "grayloft-daemon-")
	if err == nil {
		err = os.Chmod(d, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(d) })
	return d
}

// serve runs the service until stop is called.
func serve(t *testing.T, data string) (url string, stop func() int) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ready := filepath.Join(t.TempDir(), "ready")
	ended := make(chan int, 1)
	go func() {
		code, _, errs := call(ctx, "serve", "--data", data, "--listen", "127.0.0.1:0", "--ready-file", ready)
		if code != 0 {
			t.Logf("serve: %s", errs)
		}
		ended <- code
	}()
	stop = sync.OnceValue(func() int { cancel(); return <-ended })
	t.Cleanup(func() { stop() }) // before its directory is removed
	trial.Wait(t, "the service to answer", func() bool {
		select {
		case code := <-ended:
			ended <- code
			t.Fatalf("it ended with %d", code)
		default:
		}
		b, err := os.ReadFile(ready)
		url = strings.TrimSpace(string(b))
		return err == nil && url != ""
	})
	return url, stop
}

func self(t *testing.T, url, token string) int {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, url+"/v1/skerry/self", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	return resp.StatusCode
}

// With no database named, the service runs a private one and finds its data
// again; tokens can be made whether or not it is running.
func TestOneCommandForATeamOfOne(t *testing.T) {
	data := dir(t)
	ctx := context.Background()
	url, stop := serve(t, data)
	newToken := func() string {
		t.Helper()
		code, out, errs := call(ctx, "token", "new", "--data", data, "--repo", "skerry", "--name", "isla", "--writes-to", "person/isla", "--reads-from", "person/isla,trusted", "--view")
		if code != 0 {
			t.Fatal(errs)
		}
		return strings.TrimSpace(out)
	}
	token := newToken()
	if got := self(t, url, token); got != 200 {
		t.Errorf("a token made while the service runs: %d", got)
	}
	if code := stop(); code != 0 {
		t.Errorf("it ended with %d", code)
	}
	second := newToken()
	url, _ = serve(t, data)
	for what, tok := range map[string]string{"before": token, "while it was down": second} {
		if got := self(t, url, tok); got != 200 {
			t.Errorf("a token made %s: %d", what, got)
		}
	}
	if info, err := os.Stat(filepath.Join(data, "postgres.password")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the database's password: %v, %v", info, err)
	}
}

func TestMistakesAreExplained(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"serve", "--data", t.TempDir(), "--listen", l.Addr().String()}, "choose another --listen"},
		{[]string{"serve", "--data", t.TempDir(), "--cert", "x"}, "--cert and --key must be given together"},
		{[]string{"serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--database", "postgres://127.0.0.1:1/none"}, "the database does not answer"},
		{[]string{"token", "new", "--name", "x", "--database", trial.Database(t)}, "a token needs a repository"},
		{[]string{"token", "new", "--name", "x", "--repo", "r", "--expires", "soon"}, "write it like 90d or 12h"},
		{[]string{"token", "new", "--name", "x", "--repo", "r", "--writes-to", "trusted", "--reads-from", "person/x", "--database", trial.Database(t)}, "may read only from \"trusted\""},
		{[]string{"sing"}, "\"sing\" is not a command"},
		{[]string{"token", "sing"}, "is not a command of token: list, new, revoke, rotate"},
	} {
		if code, out, errs := call(context.Background(), c.args...); code != 2 || !strings.Contains(errs, c.says) || out != "" {
			t.Errorf("%v: %d, %q, %q; want %q", c.args, code, out, errs, c.says)
		}
	}
}

func TestShelvesHaveQuotas(t *testing.T) {
	db := trial.Database(t)
	do := func(args ...string) (int, string) {
		code, out, errs := call(context.Background(), append(args, "--database", db)...)
		return code, out + errs
	}
	do("token", "new", "--repo", "skerry", "--name", "isla", "--writes-to", "person/isla")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"retention", "--repo", "skerry", "--shelf", "person/*", "--quota", "1GB"}, 0, "person/* 1000000000"},
		{[]string{"retention", "--repo", "skerry", "--shelf", "branch/*", "--quota", "2GB"}, 0, "branch/* 2000000000, person/* 1000000000"},
		{[]string{"retention", "--repo", "skerry", "--shelf", "person/*", "--quota", "0"}, 0, " branch/* 2000000000\n"},
		{[]string{"retention", "--repo", "skerry", "--shelf", "person/*"}, 2, "give it with --quota"},
		{[]string{"retention", "--repo", "skerry", "--shelf", "harbour", "--quota", "1GB"}, 2, "is not a shelf"},
		{[]string{"rebuild", "--repo", "skerry"}, 0, "The sums of skerry are computed from its records."},
		{[]string{"rebuild", "--repo", "none"}, 2, "no such record: repository \"none\""},
		{[]string{"retention", "--repo", "none", "--shelf", "person/*", "--quota", "1GB"}, 2, "no such record"},
		{[]string{"retention", "--shelf", "person/*", "--quota", "1GB"}, 2, "name the repository"},
	} {
		if code, text := do(c.args...); code != c.code || !strings.Contains(text, c.says) {
			t.Errorf("%v: %d, %q; want %d, %q", c.args, code, text, c.code, c.says)
		}
	}
}
