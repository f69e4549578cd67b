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
	pipe, pw, err := newPipe(c.Output)
	if err != nil {
		return Result{Err: err}
	}
	defer pipe.close()
	cmd := exec.Command(program(c.Words[0]), c.Words[1:]...)
	cmd.Dir, cmd.Env = c.Dir, append(c.Env, MarkVar+"="+c.Mark)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = nothing(), pw, pw
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
	pipe.watch(cmd)
	err = startLeader(cmd)
	pw.Close()
	fault := began()
	if err != nil {
		_ = ended(&Result{})
		if errors.Is(err, exec.ErrNotFound) {
			err = fmt.Errorf("cannot run %q: no directory of PATH has it", c.Words[0])
		} else if errors.Is(err, os.ErrNotExist) {
			err = fmt.Errorf("cannot run %q: %w", c.Words[0], err)
		}
		return Result{Err: err}
	}
	res := wait(ctx, cmd, c, pipe)
	forgetLeader(cmd)
	endRest(c.Mark)
	tellGuard("over", cmd.Process.Pid)
	if err := ended(&res); fault == nil {
		fault = err
	}
	if fault != nil {
		res.Err = fault
	}
	pipe.rest(2 * time.Second) // not longer: a process out of reach may still have it open
	return res
}

// nothing is the standard input of commands: the empty one of the system, opened once.
var nothing = sync.OnceValue(func() io.Reader {
	f, err := os.Open(os.DevNull)
	if err != nil {
		return nil // the command gets one of its own
	}
	return f
})

// shell is where the shell of tasks is; it is looked for once, because that asks the system for
// each directory of PATH.
var shell = sync.OnceValue(func() string {
	full, err := exec.LookPath("sh")
	if err != nil {
		return "sh"
	}
	return full
})

func program(name string) string {
	if name == "sh" {
		return shell()
	}
	return name
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

// wait passes on what the command prints until it has ended by itself, or because the context was
// cancelled or its time is over.
func wait(ctx context.Context, cmd *exec.Cmd, c Command, pipe *pipe) Result {
	e := &ending{cmd: cmd, c: c, over: make(chan struct{})}
	defer context.AfterFunc(ctx, func() { e.begin(func(r *Result) { r.Stopped = true }) })()
	if c.Timeout > 0 {
		defer time.AfterFunc(c.Timeout, func() { e.begin(func(r *Result) { r.TimedOut = c.Timeout }) }).Stop()
	}
	held := pipe.untilExit(cmd) // not reaped: the group number is still its own
	err := e.reap(held)
	res := e.res
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

// ending ends a command before its time.
type ending struct {
	cmd *exec.Cmd
	c   Command

	mu   sync.Mutex
	res  Result        // why it is ended
	done bool          // it has ended, and its number may become another's
	over chan struct{} // closed with that
}

// begin asks the command to end, and ends it after the grace period.
func (e *ending) begin(why func(*Result)) {
	e.mu.Lock()
	first := !e.done && !e.res.Stopped && e.res.TimedOut == 0
	if first {
		why(&e.res)
		signalGroup(e.cmd, syscall.SIGTERM)
	}
	e.mu.Unlock()
	if !first {
		return
	}
	grace := time.NewTimer(e.c.Grace)
	defer grace.Stop()
	select {
	case <-e.over:
		return
	case <-grace.C:
	case <-e.c.Kill:
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.done {
		signalGroup(e.cmd, syscall.SIGKILL)
	}
}

// reap ends the rest of the group and returns how the command ended. Held tells that it has ended
// and was not reaped.
func (e *ending) reap(held bool) (err error) {
	if !held {
		err = e.cmd.Wait()
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	signalGroup(e.cmd, syscall.SIGKILL)
	if held {
		err = e.cmd.Wait()
	}
	e.done = true
	close(e.over)
	return err
}
