package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/service"
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
run = "echo run >> ` + runs + `; touch ` + begun + `; n=0; while ! test -e ` + goOn + ` && test $n -lt 600; do sleep 0.1; n=$((n+1)); done; ` +
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

// runner starts a command, and returns what waits for its end.
func runner(t *testing.T, r *trial.Repo, args ...string) (out *lockedBuffer, wait func() error, kill func()) {
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

func TestATaskThatRunsElsewhereIsWaitedFor(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	files, begun, goOn, runs := slow(t)
	a := trial.New(t, files).Login(s.URL, ci, "ci-4")
	b := a.Clone().Login(s.URL, brenna, "home")
	d := a.Clone().Login(s.URL, ci, "ci-5")

	_, first, _ := runner(t, a, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	outB, second, _ := runner(t, b, "run", "slow", "after")
	outD, third, _ := runner(t, d, "run", "after")
	const told = "… slow@lib"
	trial.Wait(
		t,
		"both wait",
		func() bool { return strings.Contains(outB.String(), told) && strings.Contains(outD.String(), told) },
	)
	touch(t, goOn)
	for name, wait := range map[string]func() error{"ci-4": first, "home": second, "ci-5": third} {
		if err := wait(); err != nil {
			t.Errorf("%s: %v\n%s%s", name, err, outB, outD)
		}
	}
	if n := count(t, runs); n != 1 {
		t.Errorf("it ran %d times", n)
	}
	for _, out := range []string{outB.String(), outD.String()} {
		if strings.Count(out, told) != 1 || !strings.Contains(out, "running on ci-4") || strings.Contains(out, "warning") {
			t.Errorf("said: %s", out)
		}
	}
	if b.Read("lib/out/out") != "in\n" {
		t.Error("the waiting clone has other outputs")
	}
}

func TestClaimsOfADeveloperAreNotForOthers(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	files, begun, goOn, runs := slow(t)
	a := trial.New(t, files).Login(s.URL, brenna, "home")
	b := a.Clone().Login(s.URL, ci, "ci-4")
	_, first, _ := runner(t, a, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	out, second, _ := runner(t, b, "run", "after")
	trial.Wait(t, "CI runs it, too", func() bool { return count(t, runs) == 2 })
	touch(t, goOn)
	if first() != nil || second() != nil || strings.Contains(out.String(), "home") {
		t.Errorf("%s", out)
	}
}

func TestNoWaitRunsWhatRunsElsewhere(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	files, begun, goOn, runs := slow(t)
	a := trial.New(t, files).Login(s.URL, ci, "ci-4")
	b := a.Clone().Login(s.URL, brenna, "home")
	_, first, _ := runner(t, a, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	_, second, _ := runner(t, b, "run", "after", "--no-wait")
	trial.Wait(t, "it runs here, too", func() bool { return count(t, runs) == 2 })
	touch(t, goOn)
	if first() != nil || second() != nil {
		t.Error("a run failed")
	}
}

func TestATaskThatFailedElsewhereRunsHere(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	files, begun, goOn, runs := slow(t)
	a := trial.New(t, files).Login(s.URL, ci, "ci-4")
	b := a.Clone().Login(s.URL, brenna, "home")
	_, first, _ := runner(t, a, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	out, second, _ := runner(t, b, "run", "after")
	trial.Wait(t, "it is waited for", func() bool { return strings.Contains(out.String(), "running on ci-4") })
	touch(t, goOn+".fail")
	touch(t, goOn)
	if first() == nil || second() == nil {
		t.Error("a run succeeded")
	}
	if n := count(t, runs); n != 2 {
		t.Errorf("it ran %d times", n)
	}
}

func TestAClientThatWasKilledIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(c *service.Config) { c.ClaimLease = 2 * time.Second })
	ci, brenna := everyone(t, s)
	files, begun, goOn, runs := slow(t)
	a := trial.New(t, files).Login(s.URL, ci, "ci-4")
	b := a.Clone().Login(s.URL, brenna, "home")
	_, first, kill := runner(t, a, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	out, second, _ := runner(t, b, "run", "after")
	trial.Wait(t, "it is waited for", func() bool { return strings.Contains(out.String(), "running on ci-4") })
	kill()
	_ = first()
	trial.Wait(t, "it runs here", func() bool { return count(t, runs) == 2 })
	touch(t, goOn)
	if err := second(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}

func TestWhoWaitsSurvivesTheService(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	g := newGate(t, s.URL)
	files, begun, goOn, runs := slow(t)
	a := trial.New(t, files).Login(s.URL, ci, "ci-4")
	b := a.Clone().Login(g.URL, brenna, "home")
	_, first, _ := runner(t, a, "run", "after")
	trial.Wait(t, "the task runs", exists(begun))
	out, second, _ := runner(t, b, "run", "slow")
	trial.Wait(t, "it is waited for", func() bool { return strings.Contains(out.String(), "running on ci-4") })
	g.CloseClientConnections()
	g.mode.Store("drop")
	trial.Wait(t, "it runs here", func() bool { return count(t, runs) == 2 })
	touch(t, goOn)
	if first() != nil || second() != nil || b.Read("lib/out/out") != "in\n" {
		t.Errorf("%s", out)
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
		out, wait, _ := runner(t, a.Clone().Login(s.URL, ci, "ci"), "run", "slow", "after")
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
	}
}
