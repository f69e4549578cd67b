package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// slow has a task that tells that it began, and ends when it may. It counts its runs in a
// file outside of all clones.
func slow(t *testing.T) (files map[string]string, begun, goOn, runs string) {
	t.Helper()
	dir := t.TempDir()
	begun, goOn, runs = filepath.Join(dir, "begun"), filepath.Join(dir, "go-on"), filepath.Join(dir, "runs")
	return map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"lib\"]\n",
		".gitignore":    "out/\n",
		"lib/in":        "in\n",
		"lib/loft.toml": `[task.slow]
run = "echo it begins; echo run >> ` + runs + `; touch ` + begun + `; n=0; while ! test -e ` + goOn + ` && test $n -lt 600; do sleep 0.1; n=$((n+1)); done; ` +
			`test ! -e ` + goOn + `.fail && mkdir -p out && cp in out/out"
reads = ["in"]
writes = ["out/**"]
probes = []
[task.after]
run = "cat out/out"
reads = []
writes = []
probes = []
after = ["slow"]
`,
	}, begun, goOn, runs
}

// background starts a command, and returns what waits for its end.
func background(t *testing.T, r *trial.Repo, args ...string) (out *lockedBuffer, wait func() error, kill func()) {
	t.Helper()
	out = &lockedBuffer{}
	c := r.Command(args...)
	c.Stdout, c.Stderr = out, out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	return out, func() error { return <-ended }, func() { _ = c.Process.Kill() }
}

// lockedBuffer can be read while a process writes to it.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func exists(path string) func() bool {
	return func() bool {
		_, err := os.Stat(path)
		return err == nil
	}
}

func count(t *testing.T, runs string) int {
	t.Helper()
	b, err := os.ReadFile(runs)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Count(string(b), "\n")
}

func touch(t *testing.T, path string) {
	t.Helper()
	if err := os.WriteFile(path, nil, 0o644); err != nil {
		t.Fatal(err)
	}
}

// busy is a clone in which the slow task runs.
type busy struct {
	*trial.Repo
	t          *testing.T
	goOn, runs string
	first      func() error
	kill       func()
}

// busyAt starts the slow task, and returns when it runs.
func busyAt(t *testing.T, s *trial.Service, token, place string) *busy {
	t.Helper()
	files, begun, goOn, runs := slow(t)
	b := &busy{t: t, Repo: trial.New(t, files).Login(s.URL, token, place), goOn: goOn, runs: runs}
	_, b.first, b.kill = background(t, b.Repo, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	return b
}

// waits starts the task in another clone, and returns when it is waited for.
func (b *busy) waits(r *trial.Repo) (out *lockedBuffer, wait func() error) {
	b.t.Helper()
	out, wait, _ = background(b.t, r, "run", "slow", "after")
	trial.Wait(b.t, "it is waited for", func() bool { return strings.Contains(out.String(), "… slow@lib") })
	return out, wait
}

// runsTwice returns when the task runs in another clone, too.
func (b *busy) runsTwice() {
	b.t.Helper()
	trial.Wait(b.t, "it runs there, too", func() bool { return count(b.t, b.runs) == 2 })
}

// end lets the task end, and checks that all runs passed.
func (b *busy) end(waits ...func() error) {
	b.t.Helper()
	touch(b.t, b.goOn)
	for i, wait := range append(waits, b.first) {
		if err := wait(); err != nil {
			b.t.Errorf("run %d: %v", i, err)
		}
	}
}

func TestATaskThatRunsElsewhereIsWaitedFor(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	a := busyAt(t, s, ci, "ci-4")
	home := a.Clone().Login(s.URL, brenna, "home")
	outHome, second := a.waits(home)
	outCI, third := a.waits(a.Clone().Login(s.URL, ci, "ci-5"))
	a.end(second, third)
	if n := count(t, a.runs); n != 1 {
		t.Errorf("it ran %d times", n)
	}
	for _, out := range []string{outHome.String(), outCI.String()} {
		if strings.Count(out, "running on ci-4") != 1 || strings.Contains(out, "warning") {
			t.Errorf("said: %s", out)
		}
	}
	if home.Read("lib/out/out") != "in\n" {
		t.Error("the waiting clone has other outputs")
	}
}

// With --logs live, what the task prints there is seen here; the token needs no more than the
// right to read the shelf.
func TestTheLogOfATaskThatRunsElsewhereIsFollowed(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	token := func(name, writes string, reads ...string) string {
		t.Helper()
		secret, err := s.DB.NewToken(t.Context(), records.Token{Repository: s.Repo, Name: name, WritesTo: writes, ReadsFrom: reads})
		if err != nil {
			t.Fatal(err)
		}
		return secret
	}
	a := busyAt(t, s, token("ci", "trusted", "trusted"), "ci-4")
	home := a.Clone().Login(s.URL, token("brenna", "person/brenna", "person/brenna", "trusted"), "home")
	out, wait, _ := background(t, home, "run", "slow", "--logs", "live")
	trial.Wait(t, "a line that was printed elsewhere", func() bool { return strings.Contains(out.String(), "slow@lib │ it begins") })
	a.end(wait)
	if strings.Count(out.String(), "it begins") != 1 || count(t, a.runs) != 1 {
		t.Errorf("%s", out)
	}
	// A token that does not read the shelf sees nothing of it.
	stranger := remote.New(s.URL, s.Repo, token("olve", "person/olve", "person/olve"), nil)
	var run string
	if err := s.DB.GetContext(t.Context(), &run, `SELECT r.id FROM runs r JOIN repositories p ON p.id = r.repository_id
		WHERE p.name = $1 AND shelf = 'trusted'`, s.Repo); err != nil {
		t.Fatal(err)
	}
	if lines, err := stranger.FollowLog(t.Context(), run, "slow@lib", 0); err == nil {
		t.Errorf("%q", lines)
	}
}

func TestClaimsOfADeveloperAreNotForOthers(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	a := busyAt(t, s, brenna, "home")
	out, second, _ := background(t, a.Clone().Login(s.URL, ci, "ci-4"), "run", "after")
	a.runsTwice()
	a.end(second)
	if strings.Contains(out.String(), "home") {
		t.Errorf("%s", out)
	}
}

func TestNoWaitRunsWhatRunsElsewhere(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	a := busyAt(t, s, ci, "ci-4")
	_, second, _ := background(t, a.Clone().Login(s.URL, brenna, "home"), "run", "after", "--no-wait")
	a.runsTwice()
	a.end(second)
}

func TestATaskThatFailedElsewhereRunsHere(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	a := busyAt(t, s, ci, "ci-4")
	_, second := a.waits(a.Clone().Login(s.URL, brenna, "home"))
	touch(t, a.goOn+".fail")
	touch(t, a.goOn)
	if a.first() == nil || second() == nil {
		t.Error("a run succeeded")
	}
	if n := count(t, a.runs); n != 2 {
		t.Errorf("it ran %d times", n)
	}
}

func TestAClientThatWasKilledIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(c *service.Config) { c.ClaimLease = 2 * time.Second })
	ci, brenna := everyone(t, s)
	a := busyAt(t, s, ci, "ci-4")
	out, second := a.waits(a.Clone().Login(s.URL, brenna, "home"))
	a.kill()
	if a.first() == nil {
		t.Error("it was not killed")
	}
	a.runsTwice()
	touch(t, a.goOn)
	if err := second(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}

// An interrupted run ends at once, although a task elsewhere goes on.
func TestWhoWaitsCanBeInterrupted(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	a := busyAt(t, s, ci, "ci-4")
	out := &lockedBuffer{}
	cmd := a.Clone().Login(s.URL, brenna, "home").Command("run", "after")
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	trial.Wait(t, "it is waited for", func() bool { return strings.Contains(out.String(), "running on ci-4") })
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit %d: %s", code, out)
	}
	a.end()
	if n := count(t, a.runs); n != 1 {
		t.Errorf("it ran %d times", n)
	}
}

// cutOff is a clone that waits for a task, and has just lost its connection to the service.
func cutOff(t *testing.T) (g *gate, a *busy, home *trial.Repo, out *lockedBuffer, second func() error) {
	t.Helper()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	g = newGate(t, s.URL)
	a = busyAt(t, s, ci, "ci-4")
	home = a.Clone().Login(g.URL, brenna, "home")
	out, second = a.waits(home)
	g.CloseClientConnections()
	g.mode.Store("drop")
	return g, a, home, out, second
}

func TestWhoWaitsSurvivesTheService(t *testing.T) {
	t.Parallel()
	_, a, home, _, second := cutOff(t)
	a.runsTwice()
	a.end(second)
	if home.Read("lib/out/out") != "in\n" {
		t.Error("its outputs differ")
	}
}

// A restart of the service while somebody waits is no reason to run the task twice.
func TestWhoWaitsForgivesARestartOfTheService(t *testing.T) {
	t.Parallel()
	g, a, home, out, second := cutOff(t)
	trial.Wait(t, "it is given up", func() bool { return strings.Contains(out.String(), "only this machine's cache is used") })
	g.mode.Store("")
	trial.Wait(t, "it is used again", func() bool { return strings.Contains(out.String(), "answers again") })
	a.end(second)
	if n := count(t, a.runs); n != 1 {
		t.Errorf("it ran %d times:\n%s", n, out)
	}
	if home.Read("lib/out/out") != "in\n" {
		t.Error("its outputs differ")
	}
}

// Twelve clones start the same plan at once: one runs the task, and all end.
func TestManyClonesAtOnceRunATaskOnce(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, _ := everyone(t, s)
	files, _, goOn, runs := slow(t)
	a := trial.New(t, files)
	var waits []func() error
	var outs []*lockedBuffer
	for range 12 {
		out, wait, _ := background(t, a.Clone().Login(s.URL, ci, "ci"), "run", "slow", "after")
		outs, waits = append(outs, out), append(waits, wait)
	}
	trial.Wait(t, "eleven wait", func() bool {
		n := 0
		for _, out := range outs {
			n += strings.Count(out.String(), "running on ci")
		}
		return n == 11
	})
	touch(t, goOn)
	for i, wait := range waits {
		if err := wait(); err != nil {
			t.Errorf("%v\n%s", err, outs[i])
		}
	}
	if n := count(t, runs); n != 1 {
		t.Errorf("it ran %d times", n)
		for i, out := range outs {
			t.Logf("clone %d:\n%s", i, out)
		}
	}
}
