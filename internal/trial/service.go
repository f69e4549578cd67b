package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/cluster"
	"grayloft.example/grayloft/internal/service/records"
)

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
func (s *Service) Token(t testing.TB, name, writesTo string, readsFrom ...string) string {
	t.Helper()
	return s.TokenFor(t, s.Repo, name, writesTo, readsFrom...)
}

// TokenFor makes a token for a repository.
func (s *Service) TokenFor(t testing.TB, repo, name, writesTo string, readsFrom ...string) string {
	t.Helper()
	secret, err := s.DB.NewToken(context.Background(), records.Token{
		Repository: repo, Name: name, WritesTo: writesTo, ReadsFrom: readsFrom, MayView: true,
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
