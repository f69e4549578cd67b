// Package execute runs the command of a task: in the checkout, traced, or in a
// sealed tree, with retries, locks and a log. It does not decide whether the
// task runs, and keeps nothing.
package execute

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
)

// Executor runs tasks. It is safe for concurrent use.
type Executor struct {
	Work  *outputs.Workspace
	Env   environment.Environment
	Args  []string             // for the commands of picked tasks
	Picks map[*graph.Task]bool // the tasks that were requested
	Limit Limits
	Now   func() time.Time
	Line  func(t *graph.Task, line string) // receives each line of output
}

// Limits say how a command is ended.
type Limits struct {
	Grace time.Duration   // between SIGTERM and SIGKILL
	Kill  <-chan struct{} // closed to skip the grace period
}

// Job is one task to run.
type Job struct {
	Task     *graph.Task
	Reads    listing.List // the files that it reads, for a sealed or traced task
	Upstream []sandbox.Upstream
}

// Result is what running a task gave.
type Result struct {
	Ended    process.Result
	Began    time.Time // the last attempt
	Seconds  float64   // of the last attempt
	Attempt  int       // from 1
	Log      []byte
	Note     string          // for people: which attempt passed
	Hint     string          // for people: a probable cause of a failure
	Unshared string          // why the result must stay on this machine; "" if it need not
	Findings []drift.Finding // of a traced task
	// Tree is the directory with the outputs of a sealed task; "" if they are in
	// the checkout. ConstantPath tells that the task saw it at the same path as on
	// every machine. Remove deletes it.
	Tree         string
	ConstantPath bool
	Remove       func()
}

// Run runs a task. The error is for failures of this machine, not of the task;
// it wraps [sandbox.ErrChanged] if files changed while they were staged.
func (x *Executor) Run(ctx context.Context, job Job) (Result, error) {
	release, err := x.Lock(ctx, job.Task)
	if err != nil {
		return Result{}, err
	}
	defer release()
	process.Guard(x.Work.Run)
	c := x.confine(job)
	log := tasklog.New(x.Now, func(line string) { x.Line(job.Task, line) })
	log.Mask = x.Env.Secrets(job.Task)
	res, err := x.attempts(ctx, job, log, c)
	res.Log = log.Bytes()
	c.describe(job, &res)
	if err != nil {
		res.Remove()
	}
	return res, err
}

// Lock takes the locks that a task declares, among all processes of this
// machine that use the same cache.
func (x *Executor) Lock(ctx context.Context, t *graph.Task) (release func(), err error) {
	var held []func()
	release = func() {
		for _, f := range slices.Backward(held) {
			f()
		}
	}
	for _, name := range t.Locks { // sorted, so that two tasks never wait for each other
		unlock, err := x.Work.Store.Lock(ctx, name)
		if err != nil {
			release()
			return nil, err
		}
		held = append(held, unlock)
	}
	return release, nil
}

// attempts runs the command, and again if it failed and may be retried.
func (x *Executor) attempts(ctx context.Context, job Job, log *tasklog.Log, c confinement) (Result, error) {
	var res Result
	last := job.Task.Retries + 1
	for n := 1; ; n++ {
		if err := c.begin(ctx); err != nil {
			return res, err
		}
		cmd := x.Command(job.Task, log)
		c.dress(&cmd)
		res.Began = x.Now()
		res.Ended = process.Run(ctx, cmd)
		res.Seconds, res.Attempt = x.Now().Sub(res.Began).Seconds(), n
		if err := c.end(); err != nil {
			return res, err
		}
		if res.Ended.OK() && n > 1 {
			res.Note = fmt.Sprintf("passed at attempt %d of %d", n, last)
		}
		if res.Ended.OK() || res.Ended.Stopped || n == last {
			return res, nil
		}
		fmt.Fprintf(log, "[Gray Loft: %s; attempt %d of %d]\n", res.Ended, n+1, last)
		if err := c.retry(ctx); err != nil {
			return res, err
		}
	}
}

// Command returns the command of a task as it runs in the checkout.
func (x *Executor) Command(t *graph.Task, log *tasklog.Log) process.Command {
	g := t.Graph()
	run, _ := t.Decl.Run.With(g.Repo, g.Chosen) // checked before the run
	if x.Picks[t] {
		run = run.WithArgs(x.Args)
	}
	return process.Command{
		Words: run.Words(), Dir: filepath.Join(x.Work.State.Root, filepath.FromSlash(t.Project.Dir)), Env: x.Env.Task(t),
		Mark: x.Work.Run + "/" + t.Addr(), Timeout: t.Timeout, Grace: x.Limit.Grace, Output: log, Kill: x.Limit.Kill,
	}
}

// Stage returns a staging for a task, in a directory with that name.
func (x *Executor) Stage(job Job, name string, moving bool) *sandbox.Staging {
	state := x.Work.State
	st := sandbox.NewStaging(job.Task, filepath.Join(state.SealedDir(x.Work.Run), name), x.Env, moving)
	st.Root, st.Scratch = state.Root, state.ScratchDir(job.Task.Addr())
	st.Reads, st.Upstream, st.Blobs, st.Ability = job.Reads, job.Upstream, x.Work.Store, x.ability()
	return st
}

// ability returns which restrictions of sealed tasks this machine can enforce.
func (x *Executor) ability() sandbox.Ability {
	dir := x.Work.State.SealedDir(x.Work.Run)
	_ = os.MkdirAll(dir, 0o755) // without it nothing can be tried, and that is reported
	return sandbox.Able(dir)
}

// confinement is how a task is kept to its declaration while it runs.
type confinement interface {
	begin(ctx context.Context) error // before each attempt
	dress(c *process.Command)
	end() error                      // after each attempt
	retry(ctx context.Context) error // before another attempt
	describe(job Job, res *Result)   // after the last one
}

func (x *Executor) confine(job Job) confinement {
	open := inCheckout{x.Work.Outputs(job.Task)}
	switch job.Task.Isolation {
	case decl.Sealed:
		name := digest.Of([]byte(job.Task.Addr())).String()[:16]
		return sealed{x.Stage(job, name, false), x.Work.Report}
	case decl.Traced:
		return traced{open, &sandbox.Watch{Root: x.Work.State.Root, Task: job.Task, Env: x.Env}}
	}
	return open
}

// inCheckout runs a task in the checkout without restrictions.
type inCheckout struct{ out *outputs.Set }

func (inCheckout) begin(context.Context) error { return nil }
func (inCheckout) dress(*process.Command)      {}
func (inCheckout) end() error                  { return nil }
func (inCheckout) describe(_ Job, res *Result) { res.Remove = func() {} }

func (c inCheckout) retry(ctx context.Context) error {
	return errors.Join(c.out.ClearAttempt(), c.out.ClearReports(ctx))
}

// traced runs a task in the checkout under a tracer.
type traced struct {
	inCheckout
	watch *sandbox.Watch
}

func (c traced) dress(cmd *process.Command) { c.watch.Dress(cmd) }

func (c traced) describe(job Job, res *Result) {
	c.inCheckout.describe(job, res)
	switch err := c.watch.Err; {
	case err == nil:
		res.Findings = c.watch.Findings(job.Reads)
	case errors.Is(err, sandbox.ErrNoTracer):
		res.Unshared = err.Error()
	default:
		res.Unshared = "a task could not be traced: " + err.Error()
	}
}

// sealed runs a task in a staged tree.
type sealed struct {
	stage  *sandbox.Staging
	report func(string)
}

func (c sealed) begin(ctx context.Context) error { return c.stage.Begin(ctx) }
func (c sealed) dress(cmd *process.Command)      { c.stage.Dress(cmd) }
func (c sealed) end() error                      { return c.stage.End() }
func (c sealed) retry(context.Context) error     { return nil } // the next attempt stages again

func (c sealed) describe(_ Job, res *Result) {
	res.Unshared, res.Hint = c.stage.Unenforced(), c.stage.Hint(res.Ended)
	res.Tree, res.ConstantPath = c.stage.Tree(), c.stage.HasConstantPath()
	res.Remove = func() {
		if err := c.stage.Remove(); err != nil {
			c.report("deleting the tree of a sealed task: " + err.Error())
		}
	}
}
