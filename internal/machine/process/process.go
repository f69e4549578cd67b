// Package process runs one command of a task: it logs the output, reports the
// end exactly, and leaves nothing running.
//
// On Linux this process becomes the reaper of its descendants, so a process
// that left its group (setsid) is found and ended as well: by the mark that
// every process of a task carries in its environment. On other systems the
// process group is ended, and a process that left it may outlive its task.
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

// MarkVar is the environment variable that identifies a task's processes.
const MarkVar = "GRAYLOFT_TASK_MARK"

// Command is what to run.
type Command struct {
	Words   []string
	Dir     string
	Env     []string
	Mark    string          // unique among all commands that run at the same time
	Timeout time.Duration   // 0: none
	Grace   time.Duration   // between SIGTERM and SIGKILL
	Output  io.Writer       // standard output and error, in the order of arrival
	Kill    <-chan struct{} // closed to skip the grace period
	// Wrap changes the command before it starts; began, called afterwards,
	// returns what prevented the command itself from starting; ended is waited
	// for at its end, and may correct the result.
	Wrap func(*exec.Cmd) (began func() error, ended func(*Result) error, err error)
}

// Result is how a command ended.
type Result struct {
	Exit     int
	Signal   string        // the signal that ended it, if any
	TimedOut time.Duration // the limit that it exceeded, if any
	Stopped  bool          // ended because the context was cancelled
	Err      error         // it could not be started
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

// Run runs a command until it and everything that it started have ended.
func Run(ctx context.Context, c Command) Result {
	pr, pw, err := os.Pipe()
	if err != nil {
		return Result{Err: err}
	}
	defer pr.Close()
	cmd := exec.Command(c.Words[0], c.Words[1:]...)
	cmd.Dir, cmd.Env = c.Dir, append(c.Env, MarkVar+"="+c.Mark)
	cmd.Stdout, cmd.Stderr = pw, pw
	ownSession(cmd)
	joinRun(cmd)
	began, ended := func() error { return nil }, func(*Result) error { return nil }
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
		_ = ended(&Result{})
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
	tellGuard("over", cmd.Process.Pid)
	if err := ended(&res); fault == nil {
		fault = err
	}
	if fault != nil {
		res.Err = fault
	}
	select {
	case <-copied:
	case <-time.After(2 * time.Second): // a process out of reach still has the pipe open
		pr.Close()
		<-copied
	}
	return res
}

// leaders are the processes that their own [Run] waits for.
var leaders = struct {
	sync.Mutex
	pids map[int]bool
	busy int // tasks that have not ended, with all their processes
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
		tellGuard("session", cmd.Process.Pid)
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
		if awaitExit(cmd.Process.Pid) { // not reaped: the group number is still its own
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
