// Package clones moves the state of a checkout between machines: it packs what a checkout
// has that no remote has, mirrors a repository, and makes clean checkouts of its commits,
// with or without such changes. It uses git's command line only. Packs that come from
// elsewhere are hostile until checked.
package clones

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/machine/git"
)

// command is one call of git. No hook, file system monitor or prompt takes part.
type command struct {
	dir   string
	env   []string // in addition to the process's own
	stdin io.Reader
	out   io.Writer // nil: the output is returned
	bound bool      // of memory: what it reads is hostile
}

// mostMemory is how many KiB of address space git has for packs that come from elsewhere. A delta
// of a few bytes can ask for any number.
const mostMemory = 3 << 20

// bounded are the settings by which git needs little address space however large the packs of
// the repository are.
var bounded = []string{"-c", "core.packedGitLimit=512m", "-c", "core.packedGitWindowSize=32m", "-c", "pack.threads=1"}

func (c command) git(ctx context.Context, args ...string) (string, error) {
	words := append([]string{
		"-c", "core.hooksPath=" + os.DevNull, "-c", "core.attributesFile=" + os.DevNull,
		"-c", "core.fsmonitor=false", "-c", "core.quotePath=false", "-c", "gc.autoDetach=false",
		"-c", "maintenance.autoDetach=false", "-c", "advice.detachedHead=false",
	}, args...)
	cmd := exec.CommandContext(ctx, "git", words...)
	if c.bound && runtime.GOOS != "windows" {
		script := fmt.Sprintf(`ulimit -v %d && exec git "$@"`, mostMemory)
		cmd = exec.CommandContext(ctx, "/bin/sh", slices.Concat([]string{"-c", script, "git"}, bounded, words)...)
	}
	cmd.Dir, cmd.Stdin = c.dir, c.stdin
	cmd.Env = append(append(git.Environment(c.dir), "LC_ALL=C", "GIT_TERMINAL_PROMPT=0"), c.env...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if c.out != nil {
		cmd.Stdout = c.out
	}
	err := cmd.Run()
	switch {
	case err == nil:
		return strings.TrimSuffix(out.String(), "\n"), nil
	case ctx.Err() != nil:
		return "", ctx.Err()
	case errors.Is(err, exec.ErrNotFound):
		return "", errors.New("git is not installed, or not in PATH: install it")
	}
	said := strings.TrimSpace(errs.String())
	if said == "" {
		said = err.Error()
	}
	return "", fmt.Errorf("git %s: %s", args[0], said)
}
