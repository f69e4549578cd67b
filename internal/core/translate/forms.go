package translate

import (
	"path"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"grayloft.example/grayloft/internal/core/makefile"
)

// maxForms limits how often a script that runs another one is followed.
const maxForms = 6

// forms returns steps as they are, and then with each script and target replaced by
// what it runs.
func (t *translator) forms(list []step) [][]step {
	out := [][]step{list}
	for range maxForms {
		var next []step
		changed := false
		for _, s := range list {
			inner, ok := t.expand(s)
			if !ok {
				inner = []step{s}
			}
			changed = changed || ok
			next = append(next, inner...)
		}
		if !changed {
			break
		}
		list = next
		out = append(out, list)
	}
	return out
}

// expand returns what a script of a package or a target of a Makefile runs; not ok if
// that cannot be told.
func (t *translator) expand(s step) ([]step, bool) {
	if len(s.args) > 0 {
		return nil, false
	}
	text, ok := "", false
	switch s.verb {
	case "script":
		text, ok = t.scriptText(s)
	case "make":
		file := ""
		if len(s.words) > 1 {
			file = s.words[1]
		}
		text, ok = t.recipe(s.dir, file, s.words[0])
	}
	if !ok {
		return nil, false
	}
	list, err := t.parse(text, s.dir)
	if err != nil {
		return nil, false
	}
	for i := range list {
		for name, value := range s.vars {
			if _, has := list[i].vars[name]; !has {
				list[i].vars[name] = value
			}
		}
	}
	return list, true
}

// scriptText returns what a script runs, with the scripts that run before and after
// it.
func (t *translator) scriptText(s step) (string, bool) {
	for _, p := range t.manifests() {
		if p.dir != s.dir {
			continue
		}
		var lines []string
		for _, name := range []string{"pre" + s.words[0], s.words[0], "post" + s.words[0]} {
			if text := p.commands[name]; text != "" {
				lines = append(lines, text)
			}
		}
		return strings.Join(lines, "\n"), p.commands[s.words[0]] != ""
	}
	return "", false
}

// recipe returns what a target runs, if it has no prerequisites and no variables of
// make.
func (t *translator) recipe(dir, file, name string) (string, bool) {
	target, ok := t.target(dir, file, name)
	text := ""
	for _, line := range target.Recipe {
		text += strings.TrimLeft(line, "@-+ ") + "\n"
	}
	if !ok || target.Before != "" || strings.Contains(text, "$(") || strings.Contains(text, "${") {
		return "", false
	}
	return strings.ReplaceAll(text, "$$", "$"), text != ""
}

func (t *translator) target(dir, file, name string) (makefile.Target, bool) {
	names := makefile.Names
	if file != "" {
		names = []string{file}
	}
	for _, n := range names {
		if text := t.Read(path.Join(dir, n)); text != "" {
			return makefile.Find(makefile.Targets(text), name)
		}
	}
	return makefile.Target{}, false
}

// crate returns the directory of a Cargo package.
func (t *translator) crate(name string) (string, bool) {
	for _, f := range t.Files {
		var m struct{ Package struct{ Name string } }
		if path.Base(f) == "Cargo.toml" && toml.Unmarshal([]byte(t.Read(f)), &m) == nil && m.Package.Name == name {
			return path.Dir(f), true
		}
	}
	return "", false
}
