package probe

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/shell"
)

// programs identifies what an answer depends on in addition to files: the programs that the probe
// starts. The error says why that cannot be told; the answer must not be remembered then.
func (p *Prober) programs(q Question) (string, error) {
	run := p.Graph.Repo.Probes[q.Probe].Run
	words, err := started(run)
	if err != nil {
		return "", err
	}
	search, _ := p.Env.Lookup("PATH")
	out := fmt.Sprintf("%q %q %q", run.Words(), search, q.Dir())
	for _, word := range words {
		one, err := identify(word, find(word, search, p.dir(q)))
		if err != nil {
			return "", err
		}
		out += one
	}
	return out, nil
}

// Unremembered says why the answer to a question is not remembered although the probe declares
// what it reads; nil if it is.
func (p *Prober) Unremembered(q Question) error {
	_, err := p.programs(q)
	return err
}

// identify describes a program so that another one differs.
func identify(word, full string) (string, error) {
	if full == "" {
		return "", fmt.Errorf("%s is in no directory of PATH", word)
	}
	info, err := os.Stat(full)
	if err != nil {
		return "", err
	}
	target, err := filepath.EvalSymlinks(full)
	if err != nil {
		return "", err
	}
	if err := launcher(full, target, info); err != nil {
		return "", err
	}
	return fmt.Sprintf(" %q %q %d %d", full, target, info.Size(), info.ModTime().UnixNano()), nil
}

// started returns the words by which a command starts programs.
func started(run decl.Command) ([]string, error) {
	if run.Argv != nil {
		return run.Argv[:1], shell.Plain(run.Argv[0])
	}
	return shell.Programs(run.Shell)
}

// find returns the path of a program as a process that starts in dir finds it.
func find(word, search, dir string) string {
	in := func(p string) string {
		if filepath.IsAbs(p) {
			return p
		}
		return filepath.Join(dir, p)
	}
	if strings.ContainsRune(word, '/') {
		return in(word)
	}
	for _, place := range filepath.SplitList(search) {
		full := in(filepath.Join(place, word))
		if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return full
		}
	}
	return ""
}
