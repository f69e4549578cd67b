// Package trial is shared by the tests of whole programs: repositories made on
// the spot, the client as a separate process, a database, and a service on
// loopback.
package trial

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/cli"
)

// asClient makes the test binary act as the client.
const asClient = "GRAYLOFT_TRIAL_CLIENT"

// Main is a package's TestMain: it runs the tests, or the client if the binary
// was started as one, and stops what the tests shared.
func Main(m *testing.M) {
	cli.Enter()
	if os.Getenv(asClient) != "" {
		os.Unsetenv(asClient)
		os.Exit(cli.Main(context.Background(), os.Args[1:], os.Stdout, os.Stderr))
	}
	code := m.Run()
	for _, f := range atEnd {
		f()
	}
	if served.stop != nil {
		served.stop()
	}
	if shared.stop != nil {
		shared.stop()
	}
	os.Exit(code)
}

var atEnd []func()

// AtEnd registers what [Main] does after the tests.
func AtEnd(f func()) { atEnd = append(atEnd, f) }

// Repo is a checkout with a git repository, a cache and an environment.
type Repo struct {
	T   testing.TB
	Dir string
	Env []string // in addition to the process's own
	Bin string   // the client to run; empty: the test binary itself
}

// New makes a repository of the files and commits them.
func New(t testing.TB, files map[string]string) *Repo {
	t.Helper()
	r := &Repo{
		T:   t,
		Dir: filepath.Join(t.TempDir(), "repo"),
		Env: []string{"GRAYLOFT_CACHE=" + t.TempDir(), "GRAYLOFT_NAME=tester", "GRAYLOFT_CONFIG=" + t.TempDir()},
	}
	if err := os.MkdirAll(r.Dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range files {
		r.Write(name, text)
	}
	r.Git("init", "-q", "-b", "main")
	r.Commit("start")
	return r
}

// Clone makes another checkout with a cache of its own: another machine.
func (r *Repo) Clone() *Repo {
	r.T.Helper()
	c := &Repo{
		T:   r.T,
		Dir: filepath.Join(r.T.TempDir(), "repo"),
		Env: []string{"GRAYLOFT_CACHE=" + r.T.TempDir(), "GRAYLOFT_NAME=other", "GRAYLOFT_CONFIG=" + r.T.TempDir()},
	}
	r.Git("clone", "-q", ".", c.Dir)
	return c
}

// Path returns where a file is on the disk.
func (r *Repo) Path(name string) string { return filepath.Join(r.Dir, filepath.FromSlash(name)) }

// Write writes a file and creates the directories on the way to it.
func (r *Repo) Write(name, text string) {
	r.T.Helper()
	if err := os.MkdirAll(filepath.Dir(r.Path(name)), 0o755); err != nil {
		r.T.Fatal(err)
	}
	text = atService(text, Repository(r.T))
	if err := os.WriteFile(r.Path(name), []byte(text), 0o644); err != nil {
		r.T.Fatal(err)
	}
}

// Append appends to a file.
func (r *Repo) Append(name, text string) {
	r.T.Helper()
	r.Write(name, r.Read(name)+text)
}

// Read returns a file's contents.
func (r *Repo) Read(name string) string {
	r.T.Helper()
	b, err := os.ReadFile(r.Path(name))
	if err != nil {
		r.T.Fatal(err)
	}
	return string(b)
}

// Has tells whether a path exists.
func (r *Repo) Has(name string) bool {
	_, err := os.Lstat(r.Path(name))
	return err == nil
}

// Remove removes a file or a directory.
func (r *Repo) Remove(name string) {
	r.T.Helper()
	if err := os.RemoveAll(r.Path(name)); err != nil {
		r.T.Fatal(err)
	}
}

// Git runs git and returns what it prints.
func (r *Repo) Git(args ...string) string {
	r.T.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = r.Dir
	cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=t", "GIT_AUTHOR_EMAIL=t@t.example", "GIT_COMMITTER_NAME=t",
		"GIT_COMMITTER_EMAIL=t@t.example", "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1")
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.T.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// Commit commits everything.
func (r *Repo) Commit(message string) {
	r.T.Helper()
	r.Git("add", "-A")
	r.Git("commit", "-q", "--allow-empty", "-m", message)
}

// Build builds the client as it is shipped, for tests that start it so often
// that starting it with the race detector would take most of the time.
func Build(t testing.TB) string {
	t.Helper()
	bin := filepath.Join(t.TempDir(), "grayloft")
	if out, err := exec.Command("go", "build", "-trimpath", "-o", bin,
		"grayloft.example/grayloft/cmd/grayloft").CombinedOutput(); err != nil {
		t.Fatalf("building the client: %v\n%s", err, out)
	}
	return bin
}

// Answer is what a command printed, and its exit code.
type Answer struct {
	Out, Err string
	Code     int
}

// Command returns the client as a command that has not been started.
func (r *Repo) Command(args ...string) *exec.Cmd {
	self, err := os.Executable()
	if err != nil {
		r.T.Fatal(err)
	}
	if r.Bin != "" {
		self = r.Bin
	}
	cmd := exec.Command(self, args...)
	cmd.Dir = r.Dir
	for _, v := range os.Environ() {
		if !strings.HasPrefix(v, "GRAYLOFT_") && !strings.HasPrefix(v, "CI=") && !strings.HasPrefix(v, "GOCOVERDIR=") {
			cmd.Env = append(cmd.Env, v)
		}
	}
	cmd.Env = append(append(cmd.Env, asClient+"=yes"), r.Env...)
	return cmd
}

// Grayloft runs the client.
func (r *Repo) Grayloft(args ...string) Answer {
	r.T.Helper()
	return r.GrayloftIn(".", args...)
}

// GrayloftIn runs the client in a directory of the checkout.
func (r *Repo) GrayloftIn(dir string, args ...string) Answer {
	r.T.Helper()
	cmd := r.Command(args...)
	cmd.Dir = r.Path(dir)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		r.T.Fatal(err)
	}
	return Answer{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// Wait waits until ok returns true; it asks repeatedly for at most a
// minute, since a machine that runs other tests may be slow.
func Wait(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("timed out waiting for: %s", what)
}
