package process

import (
	"os/exec"
	"syscall"
)

// Prepare sets what all tasks of this process share.
func Prepare() {}

func ownSession(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}

func signalGroup(cmd *exec.Cmd, _ syscall.Signal) { _ = cmd.Process.Kill() }

func signalOf(*exec.ExitError) string { return "" }
