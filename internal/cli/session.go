package cli

import (
	"context"
	"os"
	"os/user"
	"runtime"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

// session is what a command that computes keys works with.
type session struct {
	*repository
	engine *engine.Engine
	client *remote.Client                 // nil: no service, or not to be asked
	head   func() (commit, branch string) // of the checkout, asked for once
}

// open opens a session on a loaded repository.
func (a *app) open(ctx context.Context, r *repository, offline bool) (*session, error) {
	begun := r.ahead
	r.ahead = nil
	if begun == nil || begun.root != r.root {
		begun = a.begun(ctx, r.root)
	}
	state, err := begun.state()
	if err != nil {
		return nil, err
	}
	st, err := openStore()
	if err != nil {
		state.Close()
		return nil, err
	}
	begun.files.Graph = r.graph
	begun.loaded.Wait()
	s := &session{repository: r, engine: &engine.Engine{
		Graph: r.graph, Files: begun.files,
		State: state, Store: st, Env: a.env, Platform: runtime.GOOS + "/" + runtime.GOARCH,
		Maker: sync.OnceValue(func() protocol.Maker { return maker(ctx, r) }), Now: a.now,
	}}
	state.Barred = barred(r.graph, state, a.env)
	s.head = sync.OnceValues(func() (string, string) { return r.git.Head(context.WithoutCancel(ctx)) })
	client, url := a.client(r, st)
	switch {
	case client == nil:
	case offline:
		s.engine.Service, s.engine.Rights = url, client.LastSelf()
	default:
		client.Hurry()
		s.client, s.engine.Service, s.engine.Shared = client, url, client
	}
	return s, nil
}

// Close closes the records of the checkout, and lets other processes see what was fetched.
func (s *session) Close() {
	_ = s.engine.Store.Flush() // what they cannot see is fetched again
	s.engine.State.Close()
}

// watchedBy sends events and warnings to an observer.
func (s *session) watchedBy(o engine.Observer) {
	s.engine.Observer = o
	if s.client != nil {
		s.client.Warn = o.Warn
	}
}

// archive opens the earlier results of this checkout and the service.
func (s *session) archive() (*inspect.Archive, error) {
	runs, err := s.engine.State.History()
	a := &inspect.Archive{State: s.engine.State, Store: s.engine.Store, Runs: runs}
	if s.client != nil {
		a.Service = s.client
	}
	return a, err
}

func openStore() (*store.Store, error) {
	dir, err := store.DefaultDir()
	if err != nil {
		return nil, err
	}
	return store.Open(dir)
}

// client returns a client of the repository's service, and its address; nil if
// no service or no token is known.
func (a *app) client(r *repository, st *store.Store) (*remote.Client, string) {
	url, token := a.service(r)
	if url == "" || token == "" {
		return nil, ""
	}
	return remote.New(url, r.graph.Repo.Name, token, st), strings.TrimSuffix(url, "/")
}

// maker says who runs here: from git or the system. The service records the
// token's name instead.
func maker(ctx context.Context, r *repository) protocol.Maker {
	m := protocol.Maker{Name: os.Getenv("GRAYLOFT_NAME"), Place: os.Getenv("GRAYLOFT_PLACE")}
	m.Host, _ = os.Hostname()
	if m.Name == "" && os.Getenv("CI") != "" {
		m.Name = "ci"
	}
	if m.Name == "" {
		m.Name = r.git.User(ctx)
	}
	if u, err := user.Current(); m.Name == "" && err == nil {
		m.Name = u.Username
	}
	if m.Place == "" && os.Getenv("CI") != "" {
		m.Place = "ci"
	}
	if m.Place == "" {
		m.Place = m.Host
	}
	return m
}
