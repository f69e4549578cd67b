//go:build !linux

package isolate

import (
	"errors"
	"os/exec"
	"runtime"
)

// Able says what this machine can enforce: beside the staged tree, nothing.
func Able(string) Ability { return Ability{Why: "there is no Landlock on " + runtime.GOOS} }

func namespaces(*exec.Cmd, order) {}

func become(order) error {
	return errors.New("a sealed command is not started this way on " + runtime.GOOS)
}
