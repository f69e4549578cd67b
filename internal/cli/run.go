package cli

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"os"
	"os/signal"
	"os/user"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

type runFlags struct {
	selection
	jobs      int
	keepGoing bool
	noReuse   bool
	part      string
	logs      string
	fetch     string
	offline   bool
	choice    choice
	extra     []string // after --
}

func (a *app) runCommand() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use: "run TASK…", Short: "Run tasks and their dependencies, reusing cached results",
		Example: "  grayloft run build test\n  grayloft run test@fares\n  grayloft run --pick 'affected and not tag:slow'",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, f.extra = behindDash(cmd, args)
			return a.run(cmd.Context(), f, args)
		},
	}
	f.sharedFlags(c)
	f.workFlags(c)
	fl := c.Flags()
	fl.BoolVar(&f.noReuse, "no-reuse", false, "run everything, even if a result could be reused")
	fl.StringVar(&f.part, "part", "", "this runner's share of the tasks, such as 2/5: the second of five, balanced by their durations")
	fl.StringVar(&f.logs, "logs", "", "live, whole, failures or none (default: failures on a terminal, else whole)")
	return c
}

// sharedFlags are those of every command that settles tasks or predicts it:
// which tasks, with which settings, and what may be asked of the service.
func (f *runFlags) sharedFlags(c *cobra.Command) {
	f.flags(c)
	f.choice.flags(c)
	c.Flags().StringVar(&f.fetch, "fetch", "needed", "what to transfer from the cache: needed (outputs you asked for, and what a task that runs will read), all (every output of the plan), or none (only what a task that runs will read)")
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
}

// workFlags are those of every command that runs tasks.
func (f *runFlags) workFlags(c *cobra.Command) {
	fl := c.Flags()
	fl.IntVarP(&f.jobs, "jobs", "j", runtime.NumCPU(), "maximum number of tasks that run at the same time")
	fl.BoolVarP(&f.keepGoing, "keep-going", "k", false, "after a failure, continue with tasks that do not depend on it")
}

func (f *runFlags) check() error {
	if f.jobs < 1 {
		return exit{exitWrong, "grayloft: --jobs must be at least 1"}
	}
	if f.part != "" {
		if _, _, err := partOf(f.part); err != nil {
			return err
		}
	}
	for _, v := range []struct{ flag, val, among string }{
		{"--logs", f.logs, " live whole failures none "}, {"--fetch", f.fetch, " needed all none "},
	} {
		if !strings.Contains(v.among, " "+v.val+" ") && v.val != "" {
			return exit{exitWrong, fmt.Sprintf("grayloft: %s %q is not valid: %s", v.flag, v.val, strings.Join(strings.Fields(v.among), ", "))}
		}
	}
	return nil
}

// chosen loads the repository with the chosen settings, and selects its tasks.
func (a *app) chosen(ctx context.Context, load func(context.Context) (*repository, error), f runFlags, args []string) (*repository, []*graph.Task, error) {
	r, err := load(ctx)
	if err != nil {
		return nil, nil, err
	}
	if err := f.choice.apply(r); err != nil {
		return nil, nil, err
	}
	picked, err := a.selected(ctx, r, f.selection, args)
	return r, picked, err
}

func (a *app) run(ctx context.Context, f runFlags, args []string) error {
	if err := f.check(); err != nil {
		return err
	}
	r, picked, err := a.chosen(ctx, a.loadAhead, f, args)
	if err != nil {
		return err
	}
	ctx, kill, stop := interrupts(ctx)
	defer stop()
	process.Prepare()

	e, client, err := a.engine(ctx, r, f)
	if err != nil {
		return err
	}
	defer e.State.Close()
	if f.part != "" {
		if picked, err = a.part(ctx, r, client, f, picked); err != nil {
			return err
		}
	}
	view := a.view(f, r.graph.Closure(picked), args, func(t *graph.Task) (float64, bool) {
		last, ok := e.State.Last(t.Addr())
		return last.Took, ok && last.Took > 0
	})
	defer view.close()
	e.Observer = engine.Observer(view)
	opt := engine.Options{
		Run: newRunID(a.now()), Picked: picked, Jobs: f.jobs, KeepGoing: f.keepGoing, NoReuse: f.noReuse, Args: f.extra,
		Fetch: decide.Fetch(f.fetch), Grace: 5 * time.Second, Kill: kill,
	}
	var rec *recording
	if client != nil {
		client.Warn = view.Warn
		made := a.record(ctx, client, r, e, opt, f, args)
		rec, e.Observer = &made, both{view, made}
	}
	// The person sees the result before the last upload ends.
	sharing := func() {}
	opt.Settled = func(sum *engine.Summary) {
		view.close()
		a.say(sum)
		sharing = a.sharing()
	}
	began := time.Now()
	sum, err := e.Run(ctx, opt)
	if err == nil {
		_ = e.Files.Memory.Save(e.State.DigestFile())
	}
	if rec != nil {
		rec.finish(sum, time.Since(began))
	}
	if sum != nil {
		if err := e.State.Remember(a.past(ctx, r, opt, sum, asked(f.selection, args))); err != nil {
			view.Warn(err.Error())
		}
	}
	sharing()
	view.close()
	if err != nil {
		if ctx.Err() != nil {
			return exit{exitInterrupted, "interrupted"}
		}
		return err
	}
	return a.report(opt, sum)
}

// interrupts makes a context that the first interrupt cancels, and a channel
// that the second one closes.
func interrupts(parent context.Context) (ctx context.Context, kill <-chan struct{}, stop func()) {
	ctx, cancel := context.WithCancel(parent)
	signals := make(chan os.Signal, 4)
	second := make(chan struct{})
	done := make(chan struct{})
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP) // a closed terminal sends SIGHUP
	go func() {
		for n := 0; ; n++ {
			select {
			case <-signals:
			case <-done:
				return
			}
			if n == 0 {
				cancel()
			} else if n == 1 {
				close(second)
			}
		}
	}()
	return ctx, second, func() { signal.Stop(signals); close(done); cancel() }
}

// newRunID returns an id that sorts by time: milliseconds since 1970 and
// chance, in base 32.
func newRunID(now time.Time) string {
	var b [15]byte
	ms := now.UnixMilli()
	for i := range 6 {
		b[i] = byte(ms >> (40 - 8*i))
	}
	_, _ = rand.Read(b[6:])
	return strings.ToLower(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString(b[:]))
}

// now is the time for records: GRAYLOFT_CLOCK_OFFSET moves it, for
// demonstrations and tests. It does not affect measurements.
func (a *app) now() time.Time {
	offset, _ := time.ParseDuration(os.Getenv("GRAYLOFT_CLOCK_OFFSET"))
	return time.Now().Add(offset)
}

// engine assembles what a run works with.
func (a *app) engine(ctx context.Context, r *repository, f runFlags) (*engine.Engine, *remote.Client, error) {
	begun := r.ahead
	r.ahead = nil
	if begun == nil || begun.root != r.root {
		begun = a.begun(ctx, r.root)
	}
	state, err := begun.state()
	if err != nil {
		return nil, nil, err
	}
	dir, err := store.DefaultDir()
	if err != nil {
		return nil, nil, err
	}
	st, err := store.Open(dir)
	if err != nil {
		return nil, nil, err
	}
	begun.files.Graph = r.graph
	begun.loaded.Wait()
	e := &engine.Engine{
		Graph: r.graph, Files: begun.files,
		State: state, Store: st, Env: a.env, Platform: runtime.GOOS + "/" + runtime.GOARCH,
		Maker: sync.OnceValue(func() protocol.Maker { return a.maker(ctx, r) }), Now: a.now,
	}
	if f.offline {
		return e, nil, nil
	}
	client, url := a.client(r, st)
	if client != nil {
		e.Service, e.Shared = url, client
	}
	return e, client, nil
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
func (a *app) maker(ctx context.Context, r *repository) protocol.Maker {
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

// both passes everything to two observers.
type both [2]engine.Observer

func (b both) Started(t *graph.Task, at time.Duration, slot int) {
	for _, o := range b {
		o.Started(t, at, slot)
	}
}

func (b both) Line(t *graph.Task, line string) {
	for _, o := range b {
		o.Line(t, line)
	}
}

func (b both) Done(r *engine.Result) {
	for _, o := range b {
		o.Done(r)
	}
}

func (b both) Warn(s string) {
	for _, o := range b {
		o.Warn(s)
	}
}
