// Package process runs one command of a task: its output into a log, its end
// reported as what it was, and nothing that it started left behind.
//
// On Linux this process becomes the reaper of what its children leave behind,
// so that a process which left its group (setsid) is found and ended as well:
// by the mark that every process of a task carries in its environment. On
// other systems the process group is ended, and a process that left it may
// outlive its task.
package process

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"
)

// MarkVar is the environment variable that tells a task's processes from
// others.
const MarkVar = "GRAYLOFT_TASK_MARK"

// Command is what to run.
type Command struct {
	Words   []string
	Dir     string
	Env     []string
	Mark    string          // unique among all that run at the time
	Timeout time.Duration   // 0: none
	Grace   time.Duration   // between the gentle end and the sure one
	Output  io.Writer       // standard output and error, in the order in which they came
	Kill    <-chan struct{} // closed to skip the grace
	// Wrap changes the command before it starts; began, called after, returns
	// what kept the command proper from beginning, and ended what its end is to
	// be waited with.
	Wrap func(*exec.Cmd) (began, ended func() error, err error)
}

// Result is how a command ended.
type Result struct {
	Exit     int
	Signal   string        // the signal that ended it, if one did
	TimedOut time.Duration // the limit that it ran into, if it did
	Stopped  bool          // ended because the context was
	Err      error         // it could not be started at all
}

// OK tells whether the command succeeded.
func (r Result) OK() bool {
	return r.Err == nil && r.Exit == 0 && r.Signal == "" && r.TimedOut == 0 && !r.Stopped
}

func (r Result) String() string {
	switch {
	case r.Err != nil:
		return r.Err.Error()
	case r.TimedOut > 0:
		return fmt.Sprintf("timed out after %s", r.TimedOut)
	case r.Stopped:
		return "interrupted"
	case r.Signal != "":
		return "ended by signal " + r.Signal
	}
	return fmt.Sprintf("exit %d", r.Exit)
}

// Run runs the command to its end, and the end of all that it started.
func Run(ctx context.Context, c Command) Result {
	pr, pw, err := os.Pipe()
	if err != nil {
		return Result{Err: err}
	}
	defer pr.Close()
	cmd := exec.Command(c.Words[0], c.Words[1:]...)
	cmd.Dir, cmd.Env = c.Dir, append(c.Env, MarkVar+"="+c.Mark)
	cmd.Stdout, cmd.Stderr = pw, pw
	ownGroup(cmd)
	began, ended := nothing, nothing
	if c.Wrap != nil {
		if began, ended, err = c.Wrap(cmd); err != nil {
			pw.Close()
			return Result{Err: err}
		}
	}
	busy(1)
	defer func() {
		busy(-1)
		endStrays()
	}()
	err = startLeader(cmd)
	pw.Close()
	fault := began()
	if err != nil {
		_ = ended()
		if errors.Is(err, exec.ErrNotFound) || errors.Is(err, os.ErrNotExist) {
			err = fmt.Errorf("cannot run %q: %w", c.Words[0], err)
		}
		return Result{Err: err}
	}
	copied := make(chan struct{})
	go func() {
		defer close(copied)
		_, _ = io.Copy(c.Output, pr)
	}()
	res := wait(ctx, cmd, c)
	forgetLeader(cmd)
	endRest(c.Mark)
	if err := ended(); fault == nil {
		fault = err
	}
	if fault != nil {
		res.Err = fault
	}
	select {
	case <-copied:
	case <-time.After(2 * time.Second): // someone out of reach still holds the pipe
		pr.Close()
		<-copied
	}
	return res
}

func nothing() error { return nil }

// leaders are the processes that are waited for by their own [Run].
var leaders = struct {
	sync.Mutex
	pids map[int]bool
	busy int // tasks that have not come to their end, with all that belongs to them
}{pids: map[int]bool{}}

func busy(n int) {
	leaders.Lock()
	defer leaders.Unlock()
	leaders.busy += n
}

func startLeader(cmd *exec.Cmd) error {
	leaders.Lock()
	defer leaders.Unlock()
	err := cmd.Start()
	if err == nil {
		leaders.pids[cmd.Process.Pid] = true
	}
	return err
}

func forgetLeader(cmd *exec.Cmd) {
	leaders.Lock()
	defer leaders.Unlock()
	delete(leaders.pids, cmd.Process.Pid)
}

func wait(ctx context.Context, cmd *exec.Cmd, c Command) Result {
	ended := make(chan struct{})
	var err error
	go func() {
		defer close(ended)
		if awaitExit(cmd.Process.Pid) { // not reaped: the group is still its own
			signalGroup(cmd, syscall.SIGKILL)
			err = cmd.Wait()
			return
		}
		err = cmd.Wait()
		signalGroup(cmd, syscall.SIGKILL)
	}()
	var limit <-chan time.Time
	if c.Timeout > 0 {
		t := time.NewTimer(c.Timeout)
		defer t.Stop()
		limit = t.C
	}
	res := Result{}
	select {
	case <-ended:
	case <-ctx.Done():
		res.Stopped = true
	case <-limit:
		res.TimedOut = c.Timeout
	}
	if res.Stopped || res.TimedOut > 0 {
		signalGroup(cmd, syscall.SIGTERM)
		grace := time.NewTimer(c.Grace)
		defer grace.Stop()
		select {
		case <-ended:
		case <-grace.C:
		case <-c.Kill:
		}
	}
	if res.Stopped || res.TimedOut > 0 {
		select {
		case <-ended:
		default:
			signalGroup(cmd, syscall.SIGKILL)
			<-ended
		}
	}
	var exit *exec.ExitError
	switch {
	case err == nil:
	case errors.As(err, &exit):
		res.Exit = exit.ExitCode()
		res.Signal = signalOf(exit)
	default:
		res.Err = err
	}
	if res.Stopped || res.TimedOut > 0 {
		res.Signal = ""
	}
	return res
}
