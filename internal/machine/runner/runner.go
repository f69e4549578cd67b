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
	"sync"
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
	known   protocol.RunnerKnown
	mirror  clones.Mirror
	fetch   sync.Mutex // held while the mirror changes
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
	r := &Runner{Config: c, service: s, mirror: clones.Mirror{Dir: filepath.Join(c.Dir, "mirror"), From: c.From}}
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
	if err := s.LeaveFleet(limited, r.known.ID); err != nil && !errors.Is(err, protocol.ErrGone) {
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

func (r *Runner) fetchMirror(ctx context.Context) error {
	r.fetch.Lock()
	defer r.fetch.Unlock()
	return r.mirror.Fetch(ctx)
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
		r.known = known
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
	if r.known.Protected {
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

// loop owns the jobs of a runner.
type loop struct {
	*Runner
	jobs     map[int64]*job
	taken    int           // jobs so far
	ended    chan int64    // jobs
	answers  chan answer   // of the service
	asking   func()        // ends the question that is open; nil: none is
	askFree  int           // what that question said
	contact  time.Time     // the last answer
	rest     time.Time     // until then it takes no job: something is wrong here
	retry    time.Duration // until the next question, after a failed one
	fullSaid bool
}

type answer struct {
	protocol.WorkAnswer
	err error
}

// run is the loop. It ends when no job runs and none is wanted.
func (l *loop) run(ctx context.Context, kill <-chan struct{}) {
	l.contact = time.Now()
	watch := time.NewTicker(time.Second)
	defer watch.Stop()
	done := ctx.Done()
	for {
		draining := ctx.Err() != nil || l.MaxJobs > 0 && l.taken >= l.MaxJobs
		if draining && len(l.jobs) == 0 {
			l.endQuestion()
			return
		}
		if l.asking == nil {
			l.ask(draining)
		}
		select {
		case a := <-l.answers:
			l.asking()
			l.asking = nil
			l.hear(a)
		case id := <-l.ended:
			delete(l.jobs, id)
			if l.asking != nil && l.askFree == 0 {
				l.endQuestion() // nothing can be handed over meanwhile
			}
		case <-watch.C:
			l.checkContact()
		case <-done:
			done = nil
			l.Say(fmt.Sprintf("takes no more jobs; %d to finish", len(l.jobs)))
			l.endQuestion()
		case <-kill:
			kill = nil
			l.stopAll(errEnding)
		}
	}
}

// endQuestion ends the open question.
func (l *loop) endQuestion() {
	if l.asking != nil {
		l.asking()
		<-l.answers
		l.asking = nil
	}
}

// ask reports to the service, and asks for work.
func (l *loop) ask(draining bool) {
	q := protocol.WorkQuestion{Jobs: []int64{}, Draining: draining, Free: max(0, l.Hello.Jobs-len(l.jobs))}
	for id := range l.jobs {
		q.Jobs = append(q.Jobs, id)
	}
	if l.MaxJobs > 0 {
		q.Free = min(q.Free, l.MaxJobs-l.taken)
	}
	if draining || time.Now().Before(l.rest) || l.isFull() {
		q.Free = 0
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	l.asking, l.askFree = cancel, q.Free
	wait := l.retry
	go func() {
		var a answer
		if pause(ctx, wait) {
			a.WorkAnswer, a.err = l.service.NextWork(ctx, l.known.ID, q)
		} else {
			a.err = ctx.Err()
		}
		l.answers <- a
	}()
}

// leastFree is how many bytes must be free on the disk before a job is taken.
const leastFree = 512 << 20

func (l *loop) isFull() bool {
	free, known := freeBytes(l.Dir)
	isFull := known && free < leastFree
	if isFull && !l.fullSaid {
		l.Say(fmt.Sprintf("takes no jobs: only %d MB are free on the disk of %s", free>>20, l.Dir))
	}
	l.fullSaid = isFull
	return isFull
}

// hear acts on an answer of the service.
func (l *loop) hear(a answer) {
	switch {
	case a.err == nil:
		l.contact, l.retry = time.Now(), 0
	case errors.Is(a.err, context.Canceled):
		return
	case errors.Is(a.err, protocol.ErrGone): // the service forgot this runner
		l.stopAll(errGone)
		limited, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if l.introduce(limited) == nil {
			return
		}
		fallthrough
	default:
		if l.retry == 0 {
			l.Say("the service does not answer: " + a.err.Error())
		}
		l.retry = min(max(time.Second, 2*l.retry), maxPause/3)
		return
	}
	for _, id := range a.Cancel {
		l.stop(id, errCancelled)
	}
	for _, id := range a.Gone {
		l.stop(id, errGone)
	}
	if a.Job != nil {
		l.take(*a.Job)
	}
}

func (l *loop) stop(id int64, why error) {
	if j, ok := l.jobs[id]; ok {
		j.stop(why)
	}
}

func (l *loop) stopAll(why error) {
	for id := range l.jobs {
		l.stop(id, why)
	}
}

// checkContact stops all jobs if the service has not been reached for so long that it may give
// them to others.
func (l *loop) checkContact() {
	lease := time.Duration(l.known.Lease * float64(time.Second))
	if len(l.jobs) > 0 && time.Since(l.contact) > lease*4/5 {
		l.Say("lost contact to the service: stops its jobs, which go to other runners")
		l.stopAll(errContact)
		l.contact = time.Now()
	}
}

// take starts a job.
func (l *loop) take(w protocol.Work) {
	if _, has := l.jobs[w.Job]; has {
		return // it is listed as this runner's in the next question
	}
	ctx, stop := context.WithCancelCause(context.Background())
	l.jobs[w.Job] = &job{w, stop}
	l.taken++
	l.Say(fmt.Sprintf("request %d: %s", w.Request, describe(w.Ask)))
	go func() {
		defer stop(nil)
		end := l.carryOut(ctx, w)
		l.report(ctx, w, end)
		if end.State == fleet.Lost {
			pause(ctx, restAfterFault)
		}
		l.ended <- w.Job
	}()
}

// restAfterFault is how long a place stays empty after something was wrong with this machine,
// so that another runner gets the job.
const restAfterFault = 3 * time.Second

func describe(a protocol.Ask) string {
	words := "run"
	if a.Preview {
		words = "plan"
	}
	for _, task := range a.Tasks {
		words += " " + task
	}
	if a.Pick != "" {
		words += " --pick " + a.Pick
	}
	at := a.Branch
	if a.Commit != "" {
		at += fmt.Sprintf(" %.8s", a.Commit)
	}
	if a.Changes != nil {
		at += " with local changes"
	}
	return words + " (" + at + ")"
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
	shared := filepath.Join(r.Dir, "for", digest.Of([]byte(w.Shelf)).Short())
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
		"PATH=" + os.Getenv("PATH"), "HOME=" + d.home, "TMPDIR=" + d.tmp, "LANG=C.UTF-8", "CI=true",
		"GRAYLOFT_SERVICE=" + r.Address, "GRAYLOFT_TOKEN=" + token, "GRAYLOFT_CACHE=" + d.cache,
		"GRAYLOFT_CONFIG=" + filepath.Join(d.home, ".grayloft"), "GRAYLOFT_PLACE=" + r.Hello.Place,
		fmt.Sprintf("GRAYLOFT_REQUEST=%d", w.Request),
	}
	return slices.Concat(env, r.Env)
}
