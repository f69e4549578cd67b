package probe

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"grayloft.example/grayloft/internal/core/decl"
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

// started returns the words by which a command starts programs, without what the shell does itself.
func started(run decl.Command) ([]string, error) {
	if run.Argv != nil {
		return run.Argv[:1], check(run.Argv[0])
	}
	if !strings.ContainsAny(run.Shell, "&|;<>()$`\"'\\\n{}!=#~") {
		word := strings.Fields(run.Shell)[0]
		return []string{word}, check(word)
	}
	f, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(run.Shell), "")
	if err != nil {
		return nil, errors.New("its command is not read as one of a POSIX shell")
	}
	own := map[string]bool{}
	var words []string
	syntax.Walk(f, func(n syntax.Node) bool {
		switch x := n.(type) {
		case *syntax.FuncDecl:
			own[x.Name.Value] = true
		case *syntax.CallExpr:
			if len(x.Args) == 0 {
				break
			}
			word := x.Args[0].Lit()
			if word == "" {
				err = errors.New("the shell computes which program it starts")
			} else if e := check(word); e != nil {
				err = e
			} else if !slices.Contains(words, word) && !slices.Contains(builtins, word) {
				words = append(words, word)
			}
		}
		return true
	})
	return slices.DeleteFunc(words, func(w string) bool { return own[w] }), err
}

// builtins are the commands of a POSIX shell that start nothing
// (https://pubs.opengroup.org/onlinepubs/9799919799/utilities/V3_chap02.html#tag_19_15).
var builtins = strings.Fields(
	": [ break cd continue echo exit export false printf pwd read readonly return set shift test times trap true umask unset wait",
)

// starters start a program that one of their arguments names, or a text.
var starters = strings.Fields(". command env eval exec nice nohup source time timeout xargs")

func check(word string) error {
	if slices.Contains(starters, filepath.Base(word)) {
		return fmt.Errorf("%s starts another program", word)
	}
	return nil
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
