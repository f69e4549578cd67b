package engine_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/share"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

func TestMain(m *testing.M) {
	process.Enter()
	os.Exit(m.Run())
}

// fakeService is a shared cache in memory. Its entries are those of one other
// machine, whose store it reads blobs from.
type fakeService struct {
	selfError error
	mu        sync.Mutex
	entries   []protocol.Entry
	from, to  *store.Store
	fetch     func(blobs []protocol.Blob) error // called before blobs are fetched
	claim     func(protocol.Claim) (protocol.ClaimAnswer, error)
	log       []string // of tasks that run elsewhere
}

func (s *fakeService) Self(context.Context) (protocol.Self, error) {
	return protocol.Self{Name: "fake", Repo: "t", WritesTo: "trusted", ReadsFrom: []string{"trusted"}}, s.selfError
}

func (s *fakeService) Lookup(_ context.Context, queries []protocol.Query) ([]protocol.Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []protocol.Entry
	for _, q := range queries {
		for _, e := range s.entries {
			if e.Key == q.Key || e.EarlyKey == q.EarlyKey && !q.EarlyKey.IsZero() {
				out = append(out, e)
			}
		}
	}
	return out, nil
}

func (s *fakeService) Down() bool { return false }

func (s *fakeService) FetchAnd(_ context.Context, blobs []protocol.Blob, _ func(digest.Digest, []byte)) (int64, error) {
	if s.fetch != nil {
		if err := s.fetch(blobs); err != nil {
			return 0, err
		}
	}
	n := int64(0)
	for _, b := range blobs {
		text, err := s.from.Read(b.Digest)
		if err != nil {
			return n, err
		}
		if _, err := s.to.Put(text); err != nil {
			return n, err
		}
		n += int64(len(text))
	}
	return n, nil
}

func (s *fakeService) Queue(e protocol.Entry, _ []protocol.Blob) (share.Send, error) {
	return func(context.Context) (int64, protocol.Filed, error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		e.Shelf = "trusted"
		s.entries = append(s.entries, e)
		return 1, protocol.Filed{Created: true}, nil
	}, nil
}

func (s *fakeService) Ending() {}

func (s *fakeService) Claim(_ context.Context, c protocol.Claim) (protocol.ClaimAnswer, error) {
	if s.claim == nil {
		return protocol.ClaimAnswer{Granted: 1}, nil
	}
	return s.claim(c)
}

func (s *fakeService) JoinStep(context.Context, string, protocol.JoinAsk) (protocol.JoinAnswer, error) {
	return protocol.JoinAnswer{}, protocol.ErrDown
}

func (s *fakeService) JoinReport(context.Context, string, protocol.JoinReport) error {
	return protocol.ErrDown
}

func (s *fakeService) FollowLog(_ context.Context, _, _ string, first int) ([]string, error) {
	return s.log[min(first, len(s.log)):], nil
}

func (s *fakeService) RenewClaim(context.Context, int64) error { return nil }

func (s *fakeService) EndClaim(context.Context, int64, protocol.ClaimEnd) error { return nil }

// observer reports finished tasks.
type observer struct{ done func(task, outcome string) }

func (observer) Started(*graph.Task, time.Duration, int) {}
func (observer) Line(*graph.Task, string)                {}
func (observer) Waiting(*graph.Task, string, float64)    {}
func (observer) Elsewhere(*graph.Task, string)           {}
func (observer) Warn(string)                             {}
func (o observer) Done(r *engine.Result) {
	if o.done != nil {
		o.done(r.Task.Addr(), string(r.Outcome))
	}
}

// machine is a checkout with a cache of its own.
type machine struct {
	*engine.Engine
	dir string
}

func newMachine(t *testing.T, texts map[string]string) *machine {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range texts {
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	g, err := graph.Load(os.DirFS(dir), "t")
	if err != nil {
		t.Fatal(err)
	}
	state, err := checkout.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { state.Close() })
	st, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return &machine{dir: dir, Engine: &engine.Engine{
		Graph: g, State: state, Store: st, Service: "fake", Env: os.Environ(), Platform: runtime.GOOS, Observer: observer{}, Now: time.Now,
		Files: &files.Checkout{Root: dir, Git: git.Repo{Dir: dir}, Memory: files.NewMemory(dir), Graph: g},
		Maker: func() protocol.Maker { return protocol.Maker{Name: "m"} },
	}}
}

func (m *machine) run(t *testing.T, tasks ...string) *engine.Summary {
	t.Helper()
	opt := engine.Options{Run: fmt.Sprintf("run-%d", time.Now().UnixNano()), Jobs: 2, Fetch: "needed", Grace: time.Second}
	for _, name := range tasks {
		opt.Picked = append(opt.Picked, m.Graph.Task(name))
	}
	sum, err := m.Run(context.Background(), opt)
	if err != nil {
		t.Fatal(err)
	}
	return sum
}

const sample = `schema = 1
[repo]
name = "t"
[task.gen]
run = "cat in > out"
reads = ["in"]
writes = ["out"]
probes = []
[task.use]
run = "cat out more"
reads = ["more"]
writes = []
probes = []
after = ["gen"]
[task.check]
run = "true"
reads = ["other"]
writes = []
probes = []
after = ["gen", "gate"]
[task.gate]
run = "until test -e open; do sleep 0.01; done"
reads = []
writes = []
reuse = "never"
`

func TestAServiceThatFailsIsLeftToTheCaller(t *testing.T) {
	m := newMachine(t, map[string]string{"grayloft.toml": sample, "in": "1", "more": "", "other": "", ".gitignore": "out\nopen\n"})
	s := &fakeService{selfError: errors.New("away")}
	m.Shared = s
	if sum := m.run(t, "gen@t"); !sum.OK() {
		t.Fatal(sum.Results)
	}
	if m.Shared != engine.Shared(s) {
		t.Error("a run changed the engine of its caller")
	}
}

// While the outputs of a task are fetched for one dependent, others that do not
// read them are settled.
func TestATransferDoesNotDelayOtherDependents(t *testing.T) {
	texts := map[string]string{"grayloft.toml": sample, "in": "1", "more": "", "other": "", ".gitignore": "out\nopen\n"}
	ci, laptop := newMachine(t, texts), newMachine(t, texts)
	s := &fakeService{from: ci.Store, to: laptop.Store}
	ci.Shared, laptop.Shared = s, s
	if err := os.WriteFile(filepath.Join(ci.dir, "open"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if sum := ci.run(t, "gen@t", "check@t"); !sum.OK() {
		t.Fatal(sum.Results)
	}
	checked := make(chan struct{})
	var once sync.Once
	laptop.Observer = observer{func(task, outcome string) {
		if task == "check@t" {
			once.Do(func() { close(checked) })
		}
	}}
	out, _ := os.ReadFile(filepath.Join(ci.dir, "out"))
	want, err := ci.Store.Put(out)
	if err != nil {
		t.Fatal(err)
	}
	s.fetch = func(blobs []protocol.Blob) error {
		for _, b := range blobs {
			if b.Digest != want {
				continue
			}
			// check@t is settled from here on: the gate is before it.
			if err := os.WriteFile(filepath.Join(laptop.dir, "open"), nil, 0o644); err != nil {
				return err
			}
			select {
			case <-checked:
			case <-time.After(time.Minute):
				return errors.New("check@t was not settled while out was fetched")
			}
		}
		return nil
	}
	sum := laptop.run(t, "use@t", "check@t")
	got := map[string]decide.Outcome{}
	for _, r := range sum.Results {
		got[r.Task.Addr()] = r.Outcome
	}
	if !sum.OK() || got["gen@t"] != "fetched" || got["check@t"] != "cached" || got["use@t"] != "ran" {
		t.Errorf("%v", got)
	}
}
