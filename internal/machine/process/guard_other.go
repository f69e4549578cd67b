//go:build !linux

package process

import "os/exec"

// Guard does nothing on this system: the tasks of a killed client continue to
// their end.
func Guard(string) {}

// Unguard does nothing on this system.
func Unguard() {}

// Enter does nothing on this system.
func Enter() {}

// EndRun does nothing on this system: processes do not show which task they
// belong to.
func EndRun(string) {}

func joinRun(*exec.Cmd) {}

func tellGuard(string, int) {}

// Reach says in words which processes of tasks are found after this process was
// killed.
func Reach() string { return "only those that stay in the process group of their task" }
