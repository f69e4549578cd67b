// Package trial is shared by the tests of whole programs: repositories made on
// the spot, the client as a separate process, a database, and a service on
// loopback.
package trial

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/cli"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/cluster"
	"grayloft.example/grayloft/internal/service/records"
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
	if served.stop != nil {
		served.stop()
	}
	if shared.stop != nil {
		shared.stop()
	}
	os.Exit(code)
}

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

// Report is what run --format json prints.
type Report struct {
	Run    string         `json:"run"`
	OK     bool           `json:"ok"`
	Tasks  []Task         `json:"tasks"`
	Totals map[string]int `json:"totals"`
	Answer Answer         `json:"-"`
}

// Task is one task of a report.
type Task struct {
	Task    string   `json:"task"`
	Outcome string   `json:"outcome"`
	Reason  *string  `json:"reason"`
	Detail  []string `json:"detail"`
	Message string   `json:"message"`
	Key     string   `json:"key"`
	Picked  bool     `json:"picked"`
	On      []string `json:"on"` // in a plan
	Drift   []struct {
		Add           bool
		Key, Line, At string
	}
	MadeBy *struct {
		Name, Place, Host, Run string
	} `json:"made_by"`
}

// Run runs tasks and returns the report.
func (r *Repo) Run(args ...string) Report {
	r.T.Helper()
	a := r.Grayloft(append([]string{"run", "--format", "json"}, args...)...)
	var rep Report
	if err := json.Unmarshal([]byte(a.Out), &rep); err != nil {
		r.T.Fatalf("run %v: exit %d, %v\n%s\n%s", args, a.Code, err, a.Out, a.Err)
	}
	rep.Answer = a
	return rep
}

// Plan plans tasks and returns the report.
func (r *Repo) Plan(args ...string) Report {
	r.T.Helper()
	a := r.Grayloft(append([]string{"plan", "--format", "json"}, args...)...)
	var rep struct {
		Tasks  []Task         `json:"tasks"`
		Totals map[string]int `json:"totals"`
	}
	if err := json.Unmarshal([]byte(a.Out), &rep); err != nil {
		r.T.Fatalf("plan %v: exit %d, %v\n%s\n%s", args, a.Code, err, a.Out, a.Err)
	}
	return Report{Tasks: rep.Tasks, Totals: rep.Totals, Answer: a}
}

// Of returns what the report says of a task.
func (p Report) Of(task string) Task {
	for _, t := range p.Tasks {
		if t.Task == task {
			return t
		}
	}
	return Task{Outcome: "not in the run"}
}

// Outcomes returns the outcomes by task.
func (p Report) Outcomes() map[string]string {
	out := map[string]string{}
	for _, t := range p.Tasks {
		out[t.Task] = t.Outcome
	}
	return out
}

// Ran returns the tasks that ran, with their reasons.
func (p Report) Ran() map[string]string {
	out := map[string]string{}
	for _, t := range p.Tasks {
		if t.Outcome == "ran" || t.Outcome == "failed" {
			out[t.Task] = ""
			if t.Reason != nil {
				out[t.Task] = *t.Reason
			}
		}
	}
	return out
}

var shared struct {
	once sync.Once
	c    *cluster.Cluster
	err  error
	stop func()
	mu   sync.Mutex
	next int
}

// Database makes a database in the cluster that the tests of a package share,
// and returns its address.
func Database(t testing.TB) string {
	t.Helper()
	ctx := context.Background()
	shared.once.Do(func() {
		dir, err := os.MkdirTemp("", "grayloft-trial-")
		if err == nil {
			err = os.Chmod(dir, 0o755) // PostgreSQL's own user must be able to reach it
		}
		if err == nil {
			shared.c, err = cluster.Start(ctx, filepath.Join(dir, "postgres"))
		}
		shared.err = err
		shared.stop = func() {
			if shared.c != nil {
				_ = shared.c.Stop()
			}
			os.RemoveAll(dir)
		}
	})
	if shared.err != nil {
		t.Fatal(shared.err)
	}
	shared.mu.Lock()
	shared.next++
	name := "trial" + string(rune('a'+shared.next/26%26)) + string(rune('a'+shared.next%26))
	shared.mu.Unlock()
	if err := shared.c.CreateDatabase(ctx, name); err != nil {
		t.Fatal(err)
	}
	return shared.c.URL(name)
}

// Service is a running service.
type Service struct {
	*service.Service
	Config service.Config
	DB     *records.DB
	Repo   string // the repository of this test
}

// atService gives a repository that is called "test" its own name. A project at
// the root stays "test".
func atService(text, name string) string {
	const before = "[repo]\nname = \"test\"\n"
	if !strings.Contains(text, before) {
		return text
	}
	text = strings.Replace(text, before, fmt.Sprintf("[repo]\nname = %q\n", name), 1)
	return strings.Replace(text, "\n[task.", "\n[project]\nname = \"test\"\n[task.", 1)
}

// Repository is the name that the repository of a test has at the service: the
// tests of a package share one. [Repo.Write] writes it for "test".
func Repository(t testing.TB) string {
	name, _, _ := strings.Cut(t.Name(), "/")
	return "test-" + digest.Of([]byte(name)).Short()
}

var served struct {
	once sync.Once
	s    *Service
	err  error
	stop func()
}

// Serve returns the service that the tests of a package share. It runs until
// [Main] ends.
func Serve(t testing.TB) *Service {
	t.Helper()
	served.once.Do(func() {
		var dir string
		if dir, served.err = os.MkdirTemp("", "grayloft-served-"); served.err == nil {
			served.s, served.err = start(t, dir, func(*service.Config) {})
		}
		served.stop = func() {
			if served.s != nil {
				served.s.DB.Close()
				_ = served.s.Stop()
			}
			os.RemoveAll(dir)
		}
	})
	if served.err != nil {
		t.Fatal(served.err)
	}
	mine := *served.s
	mine.Repo = Repository(t)
	return &mine
}

// ServeWith starts a service and a database for one test alone, with a changed
// configuration.
func ServeWith(t testing.TB, change func(*service.Config)) *Service {
	t.Helper()
	s, err := start(t, t.TempDir(), change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.DB.Close()
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	s.Repo = Repository(t)
	return s
}

func start(t testing.TB, dir string, change func(*service.Config)) (*Service, error) {
	t.Helper()
	cfg := service.Defaults()
	cfg.Data, cfg.Database, cfg.Listen = dir, Database(t), "127.0.0.1:0"
	cfg.Log, cfg.CleanupInterval = slog.New(slog.NewTextHandler(io.Discard, nil)), 0
	change(&cfg)
	s, err := service.Start(context.Background(), cfg)
	if err != nil {
		return nil, err
	}
	db, err := records.Open(context.Background(), cfg.Database)
	if err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return &Service{Service: s, Config: cfg, DB: db}, nil
}

// Token makes a token for the test's repository.
func (s *Service) Token(t testing.TB, name, putsOn string, takesFrom ...string) string {
	t.Helper()
	return s.TokenFor(t, s.Repo, name, putsOn, takesFrom...)
}

// TokenFor makes a token for a repository.
func (s *Service) TokenFor(t testing.TB, repo, name, putsOn string, takesFrom ...string) string {
	t.Helper()
	secret, err := s.DB.NewToken(context.Background(), records.Token{
		Repository: repo, Name: name, WritesTo: putsOn, ReadsFrom: takesFrom, MayView: true,
	})
	if err != nil {
		t.Fatal(err)
	}
	return secret
}

// Login makes a checkout use the service.
func (r *Repo) Login(url, token, place string) *Repo {
	r.Env = append(r.Env, "GRAYLOFT_SERVICE="+url, "GRAYLOFT_TOKEN="+token, "GRAYLOFT_PLACE="+place)
	return r
}

// Wait waits until ok returns true; it asks repeatedly for at most ten seconds.
func Wait(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("timed out waiting for: %s", what)
}
