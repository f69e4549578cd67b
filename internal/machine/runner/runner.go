// Package runner carries out jobs of the service on this machine: it asks for them, makes a
// clean checkout for each, runs the client in it, confined to the checkout and with the
// token of the job, and reports what became of it. What a job is, is decided by the
// service; how tasks run, by the client. It believes neither the job nor its processes.
package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2/maybe"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/machine/clones"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/protocol"
)

// Service is the service as runners see it. The errors of jobs wrap [protocol.ErrGone] if
// the job is not this runner's any more.
type Service interface {
	Register(ctx context.Context, in protocol.RunnerHello) (protocol.RunnerKnown, error)
	NextWork(ctx context.Context, runner int64, q protocol.WorkQuestion) (protocol.WorkAnswer, error)
	LeaveFleet(ctx context.Context, runner int64) error
	StartJob(ctx context.Context, job int64, s protocol.JobStart) (protocol.JobStarted, error)
	SendJobLines(ctx context.Context, job int64, l protocol.JobLines) error
	EndJob(ctx context.Context, job int64, e protocol.JobEnd) error
}

// Config says what a runner is and what its jobs may do.
type Config struct {
	Hello   protocol.RunnerHello
	Address string // of the service, for the client of a job
	From    string // the repository, for git
	Dir     string // everything of the runner is in it
	Program string // the client
	MaxJobs int    // after so many jobs it ends; 0: it goes on

	Prepare  string        // a command that is run in each checkout first; "": none
	Time     time.Duration // that a job may take
	Disk     int64         // bytes that a job may write to its checkout
	Readable []string      // directories that jobs may read, in addition to the system's
	Env      []string      // of jobs, as NAME=value
	Confined bool          // jobs see their own files only

	// Changes fetches the local changes of a request into a directory.
	Changes func(ctx context.Context, dir string, blob digest.Digest, size int64) (io.ReadCloser, error)
	Say     func(sentence string)
}

// Runner is a running runner.
type Runner struct {
	Config
	service Service
	known   atomic.Pointer[protocol.RunnerKnown] // jobs read it while the runner registers again
	mirror  clones.Mirror
	fetch   chan struct{} // has an element while the mirror changes
	shelves shelves
}

// Reasons to stop a job.
var (
	errCancelled = errors.New("cancelled")
	errGone      = errors.New("the job went to another runner")
	errContact   = errors.New("the service cannot be reached")
	errEnding    = errors.New("the runner ends")
)

// job is a job that is carried out.
type job struct {
	work protocol.Work
	stop context.CancelCauseFunc
}

// Serve carries out jobs until the context ends; jobs that run then are finished first, unless
// kill is closed.
func Serve(ctx context.Context, c Config, s Service, kill <-chan struct{}) error {
	r := &Runner{Config: c, service: s, mirror: clones.Mirror{Dir: filepath.Join(c.Dir, "mirror"), From: c.From},
		fetch: make(chan struct{}, 1)}
	lock, err := r.prepare()
	if err != nil {
		return err
	}
	defer func() { _ = lock.Unlock() }()
	process.Guard("runner")
	defer process.Unguard()
	if err := r.fetchMirror(ctx); err != nil {
		return fmt.Errorf("fetching %s: %w", c.From, err)
	}
	if err := r.register(ctx); err != nil {
		return err
	}
	l := &loop{Runner: r, jobs: map[int64]*job{}, ended: make(chan int64), answers: make(chan answer)}
	l.run(ctx, kill)
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := s.LeaveFleet(limited, r.known.Load().ID); err != nil && !errors.Is(err, protocol.ErrGone) {
		r.Say("the service was not told that this runner ends: " + err.Error())
	}
	return nil
}

// prepare takes possession of the directory, and removes what an earlier runner left.
func (r *Runner) prepare() (*flock.Flock, error) {
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(r.Dir, "lock"))
	ok, err := lock.TryLock()
	if err == nil && !ok {
		err = fmt.Errorf("another runner uses %s: give each runner its own --dir", r.Dir)
	}
	if err == nil {
		err = os.RemoveAll(r.jobsDir())
	}
	if err == nil {
		err = os.Mkdir(r.jobsDir(), 0o700)
	}
	return lock, err
}

func (r *Runner) jobsDir() string { return filepath.Join(r.Dir, "jobs") }

// fetchLimit is how long the mirror may take to become current: the jobs beside it wait as long.
const fetchLimit = 10 * time.Minute

func (r *Runner) fetchMirror(ctx context.Context) error {
	select {
	case r.fetch <- struct{}{}:
		defer func() { <-r.fetch }()
	case <-ctx.Done():
		return ctx.Err()
	}
	limited, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	err := r.mirror.Fetch(limited)
	if limited.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("git needs longer than %s", fetchLimit)
	}
	return err
}

// idFile has the id that the runner had last. Its directory is locked, so whoever had it has
// ended.
const idFile = "id"

// introduce makes the runner known once.
func (r *Runner) introduce(ctx context.Context) error {
	h, file := r.Hello, filepath.Join(r.Dir, idFile)
	if text, err := os.ReadFile(file); err == nil {
		h.Replaces, _ = strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64) // otherwise its jobs wait for their lease
	}
	known, err := r.service.Register(ctx, h)
	if err == nil {
		r.known.Store(&known)
		err = maybe.WriteFile(file, strconv.AppendInt(nil, known.ID, 10), 0o600)
	}
	return err
}

// register makes the runner known, and keeps trying while the service cannot be reached.
func (r *Runner) register(ctx context.Context) (err error) {
	for wait := time.Second; ; wait = min(2*wait, maxPause) {
		if err = r.introduce(ctx); err == nil {
			break
		}
		if isRefused(err) || ctx.Err() != nil {
			return err
		}
		r.Say(fmt.Sprintf("the service cannot be reached (%v); trying again in %s", err, wait))
		if !pause(ctx, wait) {
			return ctx.Err()
		}
	}
	kind := ""
	if r.known.Load().Protected {
		kind = ", protected jobs only"
	}
	jobs := "one job"
	if r.Hello.Jobs > 1 {
		jobs = fmt.Sprintf("%d jobs", r.Hello.Jobs)
	}
	r.Say(fmt.Sprintf("runner %s serves the pool %s%s: %s at a time, each with up to %d tasks at a time", r.Hello.Name, r.Hello.Pool, kind,
		jobs, r.Hello.Slots))
	return nil
}

// isRefused tells whether the service understood and refused.
func isRefused(err error) bool {
	var refused interface{ Refused() bool }
	return errors.Is(err, protocol.ErrGone) || errors.As(err, &refused) && refused.Refused()
}

// maxPause is how long a runner waits between two tries at most.
const maxPause = 15 * time.Second

// pause waits, and tells whether the time passed.
func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// report tells the service how a job ended, and keeps trying for as long as it may be this
// runner's.
func (r *Runner) report(ctx context.Context, w protocol.Work, e protocol.JobEnd) {
	e.Attempt = w.Attempt
	why := context.Cause(ctx)
	if errors.Is(why, errGone) {
		r.Say(fmt.Sprintf("request %d: stopped, %v", w.Request, why))
		return
	}
	said := string(e.State)
	if e.State == fleet.Queued || e.State == fleet.Lost {
		said = "given back"
	}
	if e.Message != "" {
		said += ", " + e.Message
	}
	r.Say(fmt.Sprintf("request %d: %s", w.Request, said))
	limit, cancel := context.WithTimeout(context.Background(), reportFor)
	defer cancel()
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, maxPause/3) {
		once, done := context.WithTimeout(limit, 20*time.Second)
		err := r.service.EndJob(once, w.Job, e)
		done()
		if err == nil || isRefused(err) || !pause(limit, wait) {
			return
		}
	}
}

// reportFor is how long a runner tries to report the end of a job.
const reportFor = 2 * time.Minute

// jobDirs are the directories of a job.
type jobDirs struct {
	root  string // everything that belongs to this job alone
	tree  string
	tmp   string
	home  string // shared by jobs that write to the same shelf
	cache string
}

func (r *Runner) dirsOf(w protocol.Work) (jobDirs, error) {
	root := filepath.Join(r.jobsDir(), fmt.Sprintf("%d-%d", w.Job, w.Attempt))
	shared := r.sharedDir(w.Shelf)
	d := jobDirs{
		root,
		filepath.Join(root, "tree"),
		filepath.Join(root, "tmp"),
		filepath.Join(shared, "home"),
		filepath.Join(shared, "cache"),
	}
	for _, dir := range []string{d.tmp, d.home, d.cache} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return d, err
		}
	}
	return d, nil
}

// environment is what a job's client gets.
func (r *Runner) environment(w protocol.Work, d jobDirs, token string) []string {
	env := []string{
		"GRAYLOFT_SERVICE=" + r.Address, "GRAYLOFT_TOKEN=" + token, "GRAYLOFT_CACHE=" + d.cache,
		"GRAYLOFT_CONFIG=" + filepath.Join(d.home, ".grayloft"), "GRAYLOFT_PLACE=" + r.Hello.Place,
		fmt.Sprintf("GRAYLOFT_REQUEST=%d", w.Request),
	}
	if len(w.Refs) > 0 || r.known.Load().Protected {
		env = append(env, protocol.GuardedVar+"=yes")
	}
	return slices.Concat(ownEnvironment(d), env, r.Env)
}

// ownEnvironment is what every process of a job gets.
func ownEnvironment(d jobDirs) []string {
	return []string{"PATH=" + os.Getenv("PATH"), "HOME=" + d.home, "TMPDIR=" + d.tmp, "LANG=C.UTF-8", "CI=true"}
}
