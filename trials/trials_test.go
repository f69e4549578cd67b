//go:build trials

// Package trials causes faults on purpose, many times, and counts: processes
// killed at random moments, full disks, cut connections. It takes long, and
// runs with `make trials`.
package trials

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
)

var programs struct{ client, service string }

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "grayloft-trials-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		var out []byte
		out, err = exec.Command("go", "build", "-trimpath", "-o", dir, "grayloft.example/grayloft/cmd/...").CombinedOutput()
		os.Stderr.Write(out)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	programs.client, programs.service = filepath.Join(dir, "grayloft"), filepath.Join(dir, "grayloftd")
	defer os.RemoveAll(dir)
	trial.Main(m)
}

// times is the number of repetitions of a trial: TRIALS sets a percentage.
func times(n int) int {
	if p, err := strconv.Atoi(os.Getenv("TRIALS")); err == nil {
		return max(3, n*p/100)
	}
	return n
}

// port is a free TCP port.
func port(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

const declared = `schema = 1
[repo]
name = "test"
projects = ["lib", "app"]
`

// versions is the number of contents that the repository's input cycles
// through.
const versions = 5

// harbour is a repository of two tasks, with the expected outputs for each
// version of its input.
type harbour struct {
	*trial.Repo
	right [versions]string
}

func newHarbour(t *testing.T) *harbour {
	t.Helper()
	h := &harbour{Repo: trial.New(t, map[string]string{
		"grayloft.toml": declared, ".gitignore": "out/\n*.made\n",
		"lib/loft.toml": `[project]
name = "lib"
[task.gen]
run = "mkdir -p out/sub; i=0; while [ $i -lt 40 ]; do { if [ $i -lt 20 ]; then cat in; fi; echo $i; } > out/f$i; i=$((i+1)); done; ln -s ../f1 out/sub/link; chmod +x out/f2; head -c 3000000 /dev/zero | tr '\\0' \"$(head -c 1 in)\" > out/large; head -c 1000000 /dev/zero > out/still"
reads = ["in"]
writes = ["out/**"]
probes = []
`,
		"app/loft.toml": `[project]
name = "app"
[task.pack]
run = "cat ../lib/out/f* > pack.made; wc -c < ../lib/out/large > size.made"
reads = ["x"]
writes = ["*.made"]
probes = []
after = ["gen@lib"]
`, "app/x": "x\n", "lib/in": "0\n",
	})}
	h.Bin = programs.client
	for v := range versions {
		c := h.Clone()
		c.Bin = programs.client
		c.Write("lib/in", fmt.Sprintf("%d\n", v))
		if a := c.Grayloft("run", "gen", "pack", "--quiet"); a.Code != 0 {
			t.Fatalf("%s%s", a.Out, a.Err)
		}
		h.right[v] = outputs(t, c)
	}
	return h
}

// outputs returns a digest of all outputs, with kinds and modes.
func outputs(t *testing.T, r *trial.Repo) string {
	t.Helper()
	sum := sha256.New()
	for _, dir := range []string{"lib/out", "app"} {
		err := filepath.WalkDir(r.Path(dir), func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, _ := filepath.Rel(r.Dir, p)
			info, err := d.Info()
			if err != nil {
				return err
			}
			fmt.Fprintf(sum, "%s %v\n", rel, info.Mode())
			if d.Type()&fs.ModeSymlink != 0 {
				to, err := os.Readlink(p)
				fmt.Fprintln(sum, to)
				return err
			}
			text, err := os.ReadFile(p)
			sum.Write(text)
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

func (h *harbour) check(r *trial.Repo, v int, when string) bool {
	h.T.Helper()
	if a := r.Grayloft("run", "gen", "pack", "--quiet"); a.Code != 0 {
		h.T.Errorf("%s: exit %d\n%s%s", when, a.Code, a.Out, a.Err)
		return false
	}
	if outputs(h.T.(*testing.T), r) != h.right[v] {
		h.T.Errorf("%s: wrong outputs", when)
		return false
	}
	return true
}

// daemon is a service in a separate process.
type daemon struct {
	t    *testing.T
	args []string
	env  []string
	url  string
	cmd  *exec.Cmd
	log  bytes.Buffer
}

func (d *daemon) start() {
	d.t.Helper()
	ready := filepath.Join(d.t.TempDir(), "ready")
	os.Remove(ready)
	d.cmd = exec.Command(programs.service, append(d.args, "--ready-file", ready)...)
	d.cmd.Env = append(os.Environ(), d.env...)
	d.cmd.Stderr = &d.log
	if err := d.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	trial.Wait(d.t, "the service to answer", func() bool { _, err := os.Stat(ready); return err == nil })
}

func (d *daemon) kill() {
	_ = d.cmd.Process.Kill()
	_ = d.cmd.Wait()
}

// serve starts a service as a process, over its own database.
func serve(t *testing.T, database, data string, more ...string) *daemon {
	t.Helper()
	at := port(t)
	d := &daemon{
		t:    t,
		url:  "http://" + at,
		args: append([]string{"serve", "--database", database, "--data", data, "--listen", at, "--rate", "0"}, more...),
	}
	d.start()
	t.Cleanup(func() { d.kill() })
	return d
}

func token(t *testing.T, database, name, puts string, takes ...string) string {
	t.Helper()
	out, err := exec.Command(programs.service, "token", "new", "--database", database, "--repo", trial.Repository(t), "--name", name, "--writes-to", puts,
		"--reads-from", strings.Join(takes, ",")).
		Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// interrupt runs the client and kills it after a while, unless it ends first.
// It tells whether the kill was in time.
func interrupt(t *testing.T, r *trial.Repo, after time.Duration, args ...string) bool {
	t.Helper()
	cmd := r.Command(args...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	timer := time.AfterFunc(after, func() { _ = cmd.Process.Kill() })
	err := cmd.Wait()
	return !timer.Stop() && err != nil
}

// within fails the trial, with the stacks of all goroutines, if it takes too
// long.
func within(t *testing.T, limit time.Duration, what string, f func()) {
	t.Helper()
	done := make(chan struct{})
	go func() { defer close(done); f() }()
	select {
	case <-done:
	case <-time.After(limit):
		t.Fatalf("%s: it hangs", what)
	}
}

func TestClientsKilledWhileKeepingRestoringAndFetching(t *testing.T) {
	h := newHarbour(t)
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	ci, me := token(t, db, "ci", "trusted", "trusted"), token(t, db, "me", "person/me", "person/me", "trusted")
	made := h.Clone().Login(d.url, ci, "ci")
	made.Bin = programs.client
	for v := range versions {
		made.Write("lib/in", fmt.Sprintf("%d\n", v))
		h.check(made, v, "filling the service")
	}
	kinds := []string{"keeping", "restoring", "replacing", "fetching"} // half of the files are in all results
	r := h.Clone()
	r.Bin = programs.client
	fetching := h.Clone().Login(d.url, me, "home")
	fetching.Bin = programs.client
	rnd := rand.New(rand.NewPCG(11, 12))
	killed := map[string]int{}
	n := times(300)
	for i := range n {
		kind, v, most := kinds[i%len(kinds)], rnd.IntN(versions), 110
		at, args := r, []string{"run", "gen", "pack", "--quiet"}
		switch kind {
		case "keeping":
			args = append(args, "--no-reuse")
		case "restoring":
			r.Remove("lib/out")
			most = 40 // milliseconds: it takes no longer
		case "replacing":
			most = 40
		case "fetching":
			at = fetching
			at.Remove("lib/out")
			for _, kv := range at.Env {
				if dir, ok := strings.CutPrefix(kv, "GRAYLOFT_CACHE="); ok && rnd.IntN(3) > 0 {
					os.RemoveAll(dir)
				}
			}
			args = append(args, "--fetch", "all")
		}
		at.Write("lib/in", fmt.Sprintf("%d\n", v))
		if interrupt(t, at, time.Duration(5+rnd.IntN(most))*time.Millisecond, args...) {
			killed[kind]++
		}
		within(t, time.Minute, kind, func() { h.check(at, v, fmt.Sprintf("%d, after being killed while %s", i, kind)) })
	}
	left, _ := os.ReadDir(r.Path(".grayloft/sealed"))
	t.Logf("%d runs, of which %v were killed before they ended; the next run was right each time", n, killed)
	if killed["keeping"] < n/10 || killed["restoring"] < n/20 || killed["replacing"] < n/20 || killed["fetching"] < n/20 || len(left) > 0 {
		t.Errorf("too few: %v, or left: %v", killed, left)
	}
}

func TestTasksThatLeaveTheirSessionNeverOutliveTheRun(t *testing.T) {
	n := times(60)
	dir := t.TempDir()
	ways := []string{
		"setsid sleep 900 & echo $! > %s", "(setsid sh -c 'echo $$ > %s; exec sleep 900' &)",
		"(setsid env -i sh -c 'echo $$ > %s; exec sleep 900' > /dev/null 2>&1 &)", "nohup sleep 900 > /dev/null 2>&1 & echo $! > %s",
	}
	var b strings.Builder
	b.WriteString("schema = 1\n[repo]\nname = \"test\"\n")
	for i := range n {
		pid := filepath.Join(dir, strconv.Itoa(i))
		fmt.Fprintf(
			&b,
			"[task.t%d]\nrun = %q\nwrites = []\n",
			i,
			fmt.Sprintf(ways[i%len(ways)], pid)+"; while [ ! -s "+pid+" ]; do sleep 0.01; done",
		)
	}
	r := trial.New(t, map[string]string{"grayloft.toml": b.String()})
	r.Bin = programs.client
	within(t, 2*time.Minute, "processes that leave their session", func() {
		if a := r.Grayloft("run", "--pick", "all", "--quiet", "--jobs", "8"); a.Code != 0 {
			t.Errorf("%s%s", a.Out, a.Err)
		}
	})
	for i := range n {
		text, err := os.ReadFile(filepath.Join(dir, strconv.Itoa(i)))
		if err != nil {
			t.Error(err)
			continue
		}
		if _, err := os.Stat("/proc/" + strings.TrimSpace(string(text))); err == nil {
			t.Errorf("task %d: process %s is still there", i, text)
		}
	}
	t.Logf("%d tasks left a process behind, in %d ways; none outlived the run", n, len(ways))
}

func TestTwoClientsOnOneCheckout(t *testing.T) {
	h := newHarbour(t)
	n := times(60)
	rnd := rand.New(rand.NewPCG(5, 6))
	for i := range n {
		v := rnd.IntN(versions)
		h.Write("lib/in", fmt.Sprintf("%d\n", v))
		if rnd.IntN(2) == 0 {
			h.Remove("lib/out")
		}
		var wg sync.WaitGroup
		for range 2 {
			wg.Go(func() {
				if a := h.Grayloft("run", "gen", "pack", "--quiet"); a.Code != 0 {
					t.Errorf("%d: exit %d\n%s%s", i, a.Code, a.Out, a.Err)
				}
			})
		}
		within(t, time.Minute, "two at once", wg.Wait)
		if outputs(t, h.Repo) != h.right[v] {
			t.Fatalf("%d: wrong outputs", i)
		}
	}
	t.Logf("%d times two clients at once; the outputs were right each time", n)
}

func TestTwoHundredClientsOnOneService(t *testing.T) {
	h := newHarbour(t)
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	ci := token(t, db, "ci", "trusted", "trusted")
	n := times(200)
	clients := make([]*trial.Repo, n)
	for i := range clients {
		clients[i] = h.Clone().Login(d.url, ci, "ci")
		clients[i].Bin = programs.client
		clients[i].Write("lib/in", fmt.Sprintf("%d\n", i%versions))
	}
	said := make([]string, n)
	var wg sync.WaitGroup
	began := time.Now()
	for i, c := range clients {
		wg.Go(func() {
			a := c.Grayloft("run", "gen", "pack", "--quiet", "--jobs", "1")
			if said[i] = a.Err; a.Code != 0 {
				t.Errorf("client %d: exit %d\n%s%s", i, a.Code, a.Out, a.Err)
			}
		})
	}
	within(t, 5*time.Minute, "many clients", wg.Wait)
	took := time.Since(began)
	for i, c := range clients {
		if outputs(t, c) != h.right[i%versions] {
			t.Errorf("client %d: wrong outputs", i)
		}
	}
	warned := 0
	for _, s := range said {
		if s != "" {
			warned++
		}
	}
	t.Logf(
		"%d clients at once were done after %s; %d of them warned of a slow service",
		n,
		took.Round(100*time.Millisecond),
		warned,
	)
	last := h.Clone().Login(d.url, ci, "ci")
	last.Bin = programs.client
	if rep := last.Run("gen", "pack"); rep.Totals["ran"] != 0 {
		t.Errorf("afterwards, not all of it is shared: %v", rep.Totals)
	}
}
