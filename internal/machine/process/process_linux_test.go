package process

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

func TestMain(m *testing.M) {
	Prepare()
	os.Exit(m.Run())
}

type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

func sh(dir, script string, out *buffer) Command {
	return Command{Words: []string{"sh", "-e", "-c", script}, Dir: dir, Env: []string{"PATH=" + os.Getenv("PATH")}, Mark: dir, Grace: 5 * time.Second, Output: out}
}

func TestTheEndOfACommandIsReportedExactly(t *testing.T) {
	for script, want := range map[string]string{
		"exit 7":               "exit 7",
		"false; exit 0":        "exit 1", // the first line that fails
		"kill -TERM $$":        "ended by signal SIGTERM",
		"read x && echo got":   "exit 1", // there is no standard input
		"definitely-not-there": "exit 127",
	} {
		if got := Run(context.Background(), sh(t.TempDir(), script, &buffer{})); got.String() != want || got.OK() {
			t.Errorf("%s: %s, want %s", script, got, want)
		}
	}
	if got := Run(context.Background(), sh(t.TempDir(), "true", &buffer{})); !got.OK() {
		t.Errorf("true: %s", got)
	}
	c := Command{Words: []string{"/nowhere/at-all"}, Output: &buffer{}}
	if got := Run(context.Background(), c); got.Err == nil || !strings.Contains(got.String(), "/nowhere/at-all") {
		t.Errorf("a program that is not there: %s", got)
	}
}

func TestOutputAndErrorsKeepTheirOrder(t *testing.T) {
	var out buffer
	Run(context.Background(), sh(t.TempDir(), "for i in 1 2 3 4 5; do echo out$i; echo err$i >&2; done", &out))
	if want := "out1\nerr1\nout2\nerr2\nout3\nerr3\nout4\nerr4\nout5\nerr5\n"; out.String() != want {
		t.Errorf("%q", out.String())
	}
}

// alive tells whether a process that wrote its number to a file is still
// running.
func alive(t *testing.T, file string) bool {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	return syscall.Kill(pid, 0) == nil
}

func TestRemainingProcessesAreEnded(t *testing.T) {
	for what, script := range map[string]string{
		"in the background":                   "sleep 300 & echo $! > pid",
		"in its own session":                  "setsid sh -c 'echo $$ > pid; exec sleep 300' & while [ ! -s pid ]; do sleep 0.01; done",
		"twice removed":                       "(setsid sh -c '(echo $$ > pid; exec sleep 300) &' &) ; while [ ! -s pid ]; do sleep 0.01; done",
		"without a trace of where it is from": "(setsid env -i sh -c 'echo $$ > pid; exec sleep 300' >/dev/null 2>&1 &); while [ ! -s pid ]; do sleep 0.01; done",
		"holding the output":                  "(setsid sh -c 'echo $$ > pid; while :; do sleep 1; echo still here; done' &); while [ ! -s pid ]; do sleep 0.01; done",
	} {
		dir := t.TempDir()
		if got := Run(context.Background(), sh(dir, script, &buffer{})); !got.OK() {
			t.Errorf("%s: %s", what, got)
		}
		if alive(t, filepath.Join(dir, "pid")) {
			t.Errorf("%s: it outlived its task", what)
		}
	}
}

func TestInterruptingIsGentleFirst(t *testing.T) {
	dir := t.TempDir()
	var out buffer
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		for {
			if _, err := os.Stat(filepath.Join(dir, "ready")); err == nil {
				cancel()
				return
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	got := Run(ctx, sh(dir, "trap 'echo tidied; exit 0' TERM; touch ready; while :; do sleep 0.01; done", &out))
	if !got.Stopped || got.String() != "interrupted" || !strings.Contains(out.String(), "tidied") {
		t.Errorf("%s, and it printed %q", got, out.String())
	}
}

func TestASecondInterruptIsAtOnce(t *testing.T) {
	dir := t.TempDir()
	kill := make(chan struct{})
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		for {
			if _, err := os.Stat(filepath.Join(dir, "ready")); err == nil {
				cancel()
				close(kill)
				return
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	c := sh(dir, "trap '' TERM; touch ready; while :; do sleep 0.01; done", &buffer{})
	c.Grace, c.Kill = time.Hour, kill
	if got := Run(ctx, c); !got.Stopped {
		t.Errorf("%s", got)
	}
}

func TestTimeLimits(t *testing.T) {
	c := sh(t.TempDir(), "sleep 300", &buffer{})
	c.Timeout = 50 * time.Millisecond
	if got := Run(context.Background(), c); got.TimedOut != c.Timeout || got.String() != "timed out after 50ms" {
		t.Errorf("%s", got)
	}
}
