//go:build !linux

package sandbox

import (
	"errors"
	"os/exec"
	"runtime"
)

// Able says what this machine can enforce: only the staged tree.
func Able(string) Ability { return Ability{Why: "there is no Landlock on " + runtime.GOOS} }

func namespaces(*exec.Cmd, order) {}

func hidden() []string { return nil }

func become(order) error {
	return errors.New("sealed commands are not supported this way on " + runtime.GOOS)
}
