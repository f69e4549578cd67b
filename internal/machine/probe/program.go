package probe

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/shell"
)

// programs identifies what an answer depends on in addition to files: the programs that the probe
// starts. The error says why that cannot be told; the answer must not be remembered then.
func (p *Prober) programs(q Question) (string, error) {
	declared := p.Graph.Repo.Probes[q.Probe]
	if declared.Installed.Text != "" {
		return fmt.Sprintf("installed %d %q %q %q", installedVersion, declared.Installed.Text, q.Dir(), neededDirs(q)), nil
	}
	run := declared.Run
	search, _ := p.Env.Lookup("PATH")
	at := place{probe: q.Probe}
	if strings.Contains(run.String(), "/") || slices.ContainsFunc(filepath.SplitList(search), isRelative) {
		at.dir = q.Dir() // a program may be found from there
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	known, ok := p.identified[at]
	if !ok {
		if p.identified == nil {
			p.identified = map[place]identity{}
		}
		known.text, known.err = identifyAll(run, search, p.dir(q))
		p.identified[at] = known
	}
	return fmt.Sprintf("%q %q %q%s", run.Words(), search, q.Dir(), known.text), known.err
}

// place is a probe, in a directory if that may decide which programs it starts.
type place struct{ probe, dir string }

// identity describes the programs of a probe.
type identity struct {
	text string
	err  error
}

func isRelative(dir string) bool { return !filepath.IsAbs(dir) }

// identifyAll describes the programs that a command starts in a directory.
func identifyAll(run decl.Command, search, dir string) (out string, err error) {
	words, err := started(run)
	for _, word := range words {
		if err != nil {
			break
		}
		var one string
		one, err = identify(word, find(word, search, dir))
		out += one
	}
	return out, err
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
