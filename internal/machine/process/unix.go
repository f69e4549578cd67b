//go:build unix

package process

import (
	"os/exec"
	"syscall"

	"golang.org/x/sys/unix"
)

// Prepare sets what all tasks of this process share: umask 022, and, where the
// system supports it, adoption of the processes that tasks leave behind.
func Prepare() {
	syscall.Umask(0o022)
	adoptOrphans()
}

// ownSession starts the command in a session, and so in a group, of its own: it
// has no terminal, and its descendants are found by their session.
func ownSession(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// signalGroup signals the group. The leader has not been waited for yet, so its
// number cannot belong to another process.
func signalGroup(cmd *exec.Cmd, s syscall.Signal) { _ = syscall.Kill(-cmd.Process.Pid, s) }

func signalOf(e *exec.ExitError) string {
	st, ok := e.Sys().(syscall.WaitStatus)
	if !ok || !st.Signaled() {
		return ""
	}
	return unix.SignalName(st.Signal())
}
