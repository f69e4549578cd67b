package runner

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/machine/clones"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/protocol"
)

// askedError is a fault of what was requested: another runner would not do better.
type askedError struct{ error }

// carryOut carries a job out, and says how it ended. Nothing of it is left on the disk but
// what the caches keep.
func (r *Runner) carryOut(ctx context.Context, w protocol.Work) protocol.JobEnd {
	limited, cancel := context.WithTimeoutCause(ctx, r.Time, fmt.Errorf("it took longer than the %s that this runner allows", r.Time))
	defer cancel()
	end, err := r.attempt(limited, w)
	var asked askedError
	why := context.Cause(limited)
	switch {
	case errors.Is(why, errCancelled):
		return protocol.JobEnd{State: fleet.Cancelled, Exit: end.Exit}
	case errors.Is(why, errEnding):
		return protocol.JobEnd{State: fleet.Queued, Message: "gave the job back, because it ends"}
	case errors.Is(why, errContact):
		return protocol.JobEnd{State: fleet.Lost, Message: "lost contact with the service"}
	case why != nil:
		return protocol.JobEnd{State: fleet.Failed, Exit: -1, Message: why.Error()}
	case errors.As(err, &asked):
		return protocol.JobEnd{State: fleet.Failed, Exit: -1, Message: err.Error()}
	case err != nil:
		return protocol.JobEnd{State: fleet.Lost, Message: err.Error()}
	}
	return end
}

func (r *Runner) attempt(ctx context.Context, w protocol.Work) (end protocol.JobEnd, err error) {
	defer r.use(w.Shelf)()
	d, err := r.dirsOf(w)
	if err != nil {
		return end, err
	}
	defer func() {
		if rerr := removeAll(d.root); rerr != nil {
			r.Say("a directory of a job could not be removed: " + rerr.Error())
		}
	}()
	watched, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	go watchDisk(watched, d, r.Disk, stop)
	res, err := r.inTree(watched, w, d)
	if why := context.Cause(watched); why != nil && ctx.Err() == nil {
		return end, askedError{why}
	}
	if err != nil {
		return end, err
	}
	return r.endOf(w, d, res)
}

// inTree makes the checkout of a job, and runs the client in it.
func (r *Runner) inTree(ctx context.Context, w protocol.Work, d jobDirs) (res process.Result, err error) {
	token, err := r.begin(ctx, w, d)
	if err != nil {
		return res, err
	}
	out := r.output(w)
	defer out.close()
	if err := r.prepareTree(ctx, w, d, out); err != nil {
		return res, err
	}
	return r.execute(ctx, w, d, token, out), nil
}

// prepareTree runs the command by which the runner prepares the checkout of each job. It may run scripts of
// packages, so it has no token of the job.
func (r *Runner) prepareTree(ctx context.Context, w protocol.Work, d jobDirs, out *output) error {
	if r.Prepare == "" {
		return nil
	}
	fmt.Fprintf(out, "$ %s\n", r.Prepare)
	res := r.confined(ctx, w, d, process.Command{
		Words: []string{"/bin/sh", "-e", "-c", r.Prepare}, Env: slices.Concat(ownEnvironment(d), r.Env), Output: out,
	})
	if res.OK() {
		return nil
	}
	if res.Err != nil {
		return fmt.Errorf("%s, which prepares checkouts here: %w", r.Prepare, res.Err)
	}
	return askedError{fmt.Errorf("%s, which prepares checkouts on this runner: %s", r.Prepare, res)}
}

// begin makes the checkout of a job, and asks for its token.
func (r *Runner) begin(ctx context.Context, w protocol.Work, d jobDirs) (token string, err error) {
	if err := r.fetchMirror(ctx); err != nil {
		return "", fmt.Errorf("fetching %s: %w", r.From, err)
	}
	a := w.Ask
	commit := a.Commit
	if a.Changes == nil {
		if commit, err = r.mirror.Resolve(ctx, a.Commit, a.Branch); err != nil {
			return "", askedError{err}
		}
	}
	start := protocol.JobStart{Attempt: w.Attempt, Commit: commit}
	if r.known.Load().Protected || len(w.Refs) > 0 {
		p := fleet.Protection{Refs: w.Refs}
		if start.Ref, err = r.mirror.BranchWith(ctx, commit, p.HasRef); err != nil {
			return "", err
		}
		if start.Ref == "" {
			return "", askedError{fmt.Errorf("commit %.12s is on no protected branch (%s)", commit, strings.Join(w.Refs, ", "))}
		}
	}
	if err := r.checkOut(ctx, a, d, commit); err != nil {
		return "", err
	}
	started, err := r.service.StartJob(ctx, w.Job, start)
	if err != nil && isRefused(err) {
		return "", askedError{err}
	}
	return started.Token, err
}

// Limits of local changes, unpacked.
const (
	maxChanged = 2 << 30 // bytes
	maxEntries = 2_000_000
)

func (r *Runner) checkOut(ctx context.Context, a protocol.Ask, d jobDirs, commit string) error {
	if a.Changes == nil {
		return r.mirror.CheckOut(ctx, d.tree, commit, a.Branch)
	}
	if err := r.mirror.CheckOut(ctx, d.tree, "", ""); err != nil {
		return err
	}
	pack, err := r.Changes(ctx, d.root, a.Changes.Blob, a.Changes.Bytes)
	if err != nil {
		return fmt.Errorf("fetching the local changes: %w", err)
	}
	defer pack.Close()
	l := clones.Local{Commit: a.Commit, Branch: a.Branch, State: a.Changes.State, Tree: a.Changes.Tree}
	err = clones.Apply(ctx, d.tree, pack, l, clones.Limits{
		Pack: protocol.MaxChanges, Bytes: min(maxChanged, r.Disk), Tree: r.Disk, Entries: maxEntries,
	})
	if err != nil && ctx.Err() == nil {
		return askedError{err}
	}
	return err
}

// planFile is where the client writes the plan of a preview.
const planFile = "plan.json"

// planScript makes a plan as JSON for the record, and then as text for the person.
const planScript = `plan=$1; shift; client=$1; shift; "$client" plan --format json "$@" > "$plan" && exec "$client" plan "$@"`

// words are the command of a job.
func (r *Runner) words(w protocol.Work, d jobDirs) []string {
	a := w.Ask
	args := append([]string{}, a.Tasks...)
	for flag, value := range map[string]string{"--pick": a.Pick, "--since": a.Since} {
		if value != "" {
			args = append(args, flag+"="+value)
		}
	}
	for _, m := range a.Modes {
		args = append(args, "--mode="+m)
	}
	for _, s := range a.Sets {
		args = append(args, "--set="+s)
	}
	if a.NoReuse {
		args = append(args, "--no-reuse")
	}
	if a.KeepGoing {
		args = append(args, "--keep-going")
	}
	if a.Spread > 1 && !a.NoReuse {
		args = append(args, fmt.Sprintf("--join=request-%d", w.Request))
	}
	args = append(args, fmt.Sprintf("--jobs=%d", r.Hello.Slots))
	if !a.Preview {
		args = append(args, "--logs=whole")
	}
	if len(a.Args) > 0 {
		args = append(append(args, "--"), a.Args...)
	}
	if a.Preview {
		return append([]string{"/bin/sh", "-c", planScript, "plan", filepath.Join(d.root, planFile), r.Program}, args...)
	}
	return append([]string{r.Program, "run"}, args...)
}

// endGrace is how long the client of a job has to end its tasks.
const endGrace = 10 * time.Second

// execute runs the client.
func (r *Runner) execute(ctx context.Context, w protocol.Work, d jobDirs, token string, out *output) process.Result {
	return r.confined(ctx, w, d, process.Command{Words: r.words(w, d), Env: r.environment(w, d, token), Output: out})
}

// confined runs a command of a job in its checkout. It is confined to the directories of the job, so that it
// can reach neither the runner nor other jobs, by its files or as a process.
func (r *Runner) confined(ctx context.Context, w protocol.Work, d jobDirs, c process.Command) process.Result {
	c.Dir, c.Mark, c.Grace = d.tree, markOf(w), endGrace
	if r.Confined {
		s := sandbox.Stage{
			Dir: d.root, Work: ".", Network: true, Moving: true, Writable: []string{d.home, d.cache},
			Readable: append([]string{r.mirror.Objects()}, r.Readable...), Files: sandbox.Resolver(r.Program),
		}
		a := confinement(sandbox.Able(r.Dir), os.Getuid())
		s.Nesting = !a.Files
		c.Wrap = func(cmd *exec.Cmd) (func() error, func(*process.Result) error, error) {
			return sandbox.Wrap(cmd, s, a)
		}
	}
	return process.Run(ctx, c)
}

// confinement is how a job is restricted. For a user other than root, namespaces alone do it if
// there are any: its sealed tasks need namespaces of their own, which Landlock would refuse. Root
// owns the system's files and services, so there Landlock alone is too little, and a runner of
// root has both or does not start.
func confinement(able sandbox.Ability, uid int) sandbox.Ability {
	spaces := able.Place && able.Processes
	return sandbox.Ability{Files: uid == 0 || !spaces, Place: spaces, Processes: spaces}
}

// markOf returns the mark of a job's processes. Another service, repository or runner on this machine
// has jobs with the same numbers.
func markOf(w protocol.Work) string {
	return fmt.Sprintf("job-%d-%d-%s", w.Job, w.Attempt, rand.Text())
}

// endOf says how the client ended.
func (r *Runner) endOf(w protocol.Work, d jobDirs, res process.Result) (protocol.JobEnd, error) {
	end := protocol.JobEnd{State: fleet.Failed, Exit: res.Exit}
	switch {
	case res.Err != nil:
		return end, res.Err
	case res.Signal != "":
		end.Exit, end.Message = -1, "the client was ended by signal "+res.Signal
		if res.Signal == "SIGKILL" { // limits, and the end of the runner, are reported as what they are
			end.Message += ", which this runner did not send: the machine may have run out of memory, or somebody else ended it"
		}
	case res.OK():
		end.State = fleet.Passed
	}
	if !w.Ask.Preview || !res.OK() {
		return end, nil
	}
	var err error
	end.Plan, err = readPlan(d.root)
	return end, err
}

// readPlan reads the plan that a job wrote. A process that the job left may replace it at any time, so
// the file is opened once, in the directory of the job alone, and what was opened is looked at.
func readPlan(dir string) (string, error) {
	noPlan := askedError{errors.New("the plan was not written, or is too large to keep")}
	top, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer top.Close()
	if info, err := top.Lstat(planFile); err != nil || !info.Mode().IsRegular() {
		return "", noPlan
	}
	f, err := top.OpenFile(planFile, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe is not waited for
	if err != nil {
		return "", noPlan
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return "", noPlan
	}
	text, err := io.ReadAll(io.LimitReader(f, protocol.MaxPlan+1))
	if err == nil && len(text) > protocol.MaxPlan {
		err = noPlan
	}
	return string(text), err
}

// removeAll removes a directory, also if a job took the right to write from parts of it.
func removeAll(dir string) error {
	if err := os.RemoveAll(dir); err == nil {
		return nil
	}
	_ = filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if e != nil && e.IsDir() {
			_ = os.Chmod(p, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
