package process

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// guardVar makes a process the guard of a run.
const guardVar = "GRAYLOFT_GUARD"

// guard is a process that ends the remaining processes of tasks if this process
// is killed.
var guard struct {
	sync.Mutex
	cmd *exec.Cmd
	out *os.File // the guard waits until this is closed, by whatever end of this process
}

// Guard makes sure that tasks of the run end when this process does, even if it
// is killed. It starts the guard once; without a guard, the next run cleans up.
func Guard(run string) {
	guard.Lock()
	defer guard.Unlock()
	if guard.cmd != nil {
		return
	}
	self, err := os.Executable()
	if err != nil {
		return
	}
	pr, pw, err := os.Pipe()
	if err != nil {
		return
	}
	defer pr.Close()
	cmd := exec.Command(self)
	cmd.Env, cmd.Stdin, cmd.Dir = []string{guardVar + "=" + run}, pr, "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if startLeader(cmd) != nil {
		pw.Close()
		return
	}
	guard.cmd, guard.out = cmd, pw
	guardOut.Store(pw)
	current.Lock()
	defer current.Unlock()
	if current.group = newGroup(run); current.group != nil {
		_, _ = fmt.Fprintln(pw, "group", current.group.dir)
		guardOut.Store(nil) // the group has the processes of all sessions
	}
}

// tellGuard tells the guard about the session of a task, if the run has no control group: that it
// has started, or that it is over, so that its number may become another's.
func tellGuard(word string, session int) {
	if out := guardOut.Load(); out != nil {
		_, _ = fmt.Fprintln(out, word, session)
	}
}

// guardOut is the pipe to the guard.
var guardOut atomic.Pointer[os.File]

// Unguard ends the guard, after the last task has ended.
func Unguard() {
	guard.Lock()
	defer guard.Unlock()
	if guard.cmd == nil {
		return
	}
	guardOut.Store(nil)
	_, _ = guard.out.Write([]byte(".\n"))
	guard.out.Close()
	_ = guard.cmd.Wait()
	forgetLeader(guard.cmd)
	guard.cmd = nil
	current.Lock()
	defer current.Unlock()
	if current.group != nil {
		current.group.fd.Close()
		endGroup(current.group.dir)
		current.group = nil
	}
}

// Enter must be called first in main. In a process that [Guard] started it does
// not return.
func Enter() {
	run, ok := os.LookupEnv(guardVar)
	if !ok {
		return
	}
	signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGPIPE)
	sessions, dir, regular := readOrders()
	if !regular {
		EndRun(run)
		time.Sleep(50 * time.Millisecond) // one may have been about to start
		EndRun(run)
		endSessions(sessions)
		endGroup(dir)
	}
	os.Exit(0)
}

// EndRun ends all processes of a run's tasks, wherever they are, and waits
// until they have ended.
func EndRun(run string) {
	for range 1000 {
		var held []int
		for _, pid := range processes() {
			if !ofRun(pid, run) {
				continue
			}
			fd, err := unix.PidfdOpen(pid, 0)
			if err != nil {
				continue
			}
			if ofRun(pid, run) { // the number still belongs to that process
				_ = unix.PidfdSendSignal(fd, unix.SIGKILL, nil, 0)
				held = append(held, fd)
			} else {
				unix.Close(fd)
			}
		}
		if len(held) == 0 {
			return
		}
		for _, fd := range held {
			_, _ = unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, 5000)
			unix.Close(fd)
		}
	}
}

func ofRun(pid int, run string) bool {
	env, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "environ"))
	return err == nil && bytes.Contains(env, []byte(MarkVar+"="+run+"/"))
}
