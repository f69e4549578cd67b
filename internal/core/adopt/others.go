package adopt

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/makefile"
)

// makefiles finds the phony targets of Makefiles.
func (s *surveyor) makefiles() {
	for _, base := range makefile.Names {
		for _, f := range s.named(base) {
			text, _ := s.read(f)
			dir := path.Dir(f)
			targets := phony(text, func(name string) bool { return s.files[path.Join(dir, name)] })
			if len(targets) == 0 {
				continue
			}
			p := s.project(dir, "make")
			for _, t := range targets {
				t.From = fmt.Sprintf("target %s in %s", t.Name, f)
				t.Run = "make --silent " + shellWord(t.Name)
				t.Name = plainName(t.Name)
				if t.Why == "" && isMain(t.Name) && p.Task("build") == nil && !slices.ContainsFunc(targets, isBuild) {
					t.Name = "build"
				}
				if t.Name == "" || strings.HasPrefix(t.Name, ".") {
					continue
				}
				if old := p.Task(t.Name); old != nil && strings.HasSuffix(old.From, "go.mod") {
					// A script written by a person takes precedence over a task
					// that a manifest implies.
					t.Reads, t.Probes, t.Writes = old.Reads, old.Probes, nil
					*old = *t
					continue
				}
				if p.Task("build") != nil && len(p.Task("build").Probes) > 0 {
					t.Probes = p.Task("build").Probes
				}
				p.add(t)
			}
		}
	}
}

// isStamp matches files that say what was done elsewhere, such as an installation: with one from another
// machine, make would leave that out.
var isStamp = regexp.MustCompile(`(?i)(^|/)(\.[^/]*|[^/]*(stamp|installed|done|node_modules|venv)[^/]*)$`)

// made returns the files among what a phony target depends on, directly or through other phony ones, that
// are no sources: make makes them. It is nothing if that cannot be told.
func made(all []makefile.Target, v makefile.Variables, t makefile.Target, isSource func(string) bool) (out []string) {
	seen := map[string]bool{}
	for open := []string{t.Name}; len(open) > 0; open = open[1:] {
		at, ok := makefile.Find(all, open[0])
		if seen[open[0]] || !ok {
			continue
		}
		seen[open[0]] = true
		before, _, _ := strings.Cut(v.Expand(at.Before), "|") // what follows is only to be there
		for name := range strings.FieldsSeq(before) {
			next, isRule := makefile.Find(all, name)
			switch {
			case isStamp.MatchString(name):
				return nil
			case strings.ContainsAny(name, "$%*?#()") || path.IsAbs(name) || strings.HasPrefix(path.Clean(name), ".."):
				return nil
			case isRule && next.Phony:
				open = append(open, name)
			case !isSource(name) && !slices.Contains(out, path.Clean(name)):
				out = append(out, path.Clean(name))
			}
		}
	}
	return out
}

// isMain tells whether a target is by custom what a Makefile is there to make.
func isMain(target string) bool { return target == "all" || target == "default" }

func isBuild(t *Task) bool { return t.Name == "build" }

// phony returns the targets that a Makefile declares phony, with their command lines, given which files
// are there as sources.
func phony(text string, isSource func(name string) bool) (out []*Task) {
	all, variables := makefile.Targets(text), makefile.VariablesOf(text)
	script := func(t makefile.Target) string {
		text := ""
		for _, line := range t.Recipe {
			text += line + "\n"
		}
		return variables.Expand(text)
	}
	for _, t := range all {
		if !t.Phony || strings.ContainsAny(t.Name, "$%") || (len(t.Recipe) == 0 && t.Before == "") {
			continue
		}
		x := &Task{Name: t.Name, Script: script(t), Help: t.Help}
		x.makes, x.makesWhy = made(all, variables, t, isSource), "targets of its Makefile"
		onlyOthers := len(t.Recipe) == 0
		for dep := range strings.FieldsSeq(t.Before) {
			before, _ := makefile.Find(all, dep)
			x.Script += "# first: " + dep + "\n" + script(before)
			onlyOthers = onlyOthers && before.Phony
		}
		if onlyOthers {
			x.Sort, x.Why = NotAdopted, "it only runs other targets, which are tasks of their own"
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b *Task) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// scripts finds shell scripts in the usual directories of projects.
func (s *surveyor) scripts() {
	left := map[string]int{}
	for _, f := range s.repo.Files {
		dir := path.Dir(f)
		if !slices.Contains(scriptDirs, path.Base(dir)) || imports.IsForeign(f) {
			continue
		}
		shell, text := s.shellScript(f)
		if shell == "" {
			continue
		}
		home := path.Dir(dir)
		if !s.hasScripts(home) {
			left[dir]++
			continue
		}
		name := strings.TrimSuffix(path.Base(f), path.Ext(f))
		s.project(home, "shell").add(&Task{
			Name: plainName(name), Run: shell + " " + shellWord(path.Join(path.Base(dir), path.Base(f))), From: f, Script: text,
			Help: described(text),
		})
	}
	for i, dir := range sortedKeys(left) {
		if i == 5 {
			s.note(fmt.Sprintf("%d more directories that no project has contain shell scripts", len(left)-i))
			break
		}
		s.note(fmt.Sprintf(
			"%s is not directly in a project: its shell scripts (%d) are left out; declare those that people run", dir, left[dir],
		))
	}
}

// scriptDirs are the names of directories for scripts.
var scriptDirs = []string{"bin", "scripts", "tools"}

// hasScripts tells whether scripts of a directory are tasks: it is the root, a project, a directory at
// the root, or one beside a project.
func (s *surveyor) hasScripts(dir string) bool {
	above := path.Dir(dir)
	if above == "." || s.projects[dir] != nil {
		return true
	}
	for other := range s.projects {
		if other != "." && path.Dir(other) == above {
			return true
		}
	}
	return false
}

// shellScript returns the shell and the text of a file; no shell if it is no shell script.
func (s *surveyor) shellScript(f string) (shell, text string) {
	ext := path.Ext(f)
	if ext != "" && ext != ".sh" && ext != ".bash" {
		return "", ""
	}
	text, ok := s.read(f)
	if !ok || (ext == "" && !strings.HasPrefix(text, "#!")) || !strings.Contains(firstLine(text)+ext, "sh") {
		return "", ""
	}
	if strings.Contains(firstLine(text)+ext, "bash") {
		return "bash", text
	}
	return "sh", text
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// described returns the first line of the first comment of a script that tells what it is for, and
// not who owns it or how an editor shows it.
func described(text string) string {
	skip := false
	for i, line := range strings.Split(text, "\n") {
		words, ok := strings.CutPrefix(line, "#")
		words = strings.TrimSpace(words)
		switch {
		case !ok && line != "":
			return ""
		case i == 0 || words == "":
			skip = false // the next paragraph
		case skip, forPrograms.MatchString(words):
		case legal.MatchString(words):
			skip = true
		default:
			return words
		}
	}
	return ""
}

var (
	// legal matches lines of paragraphs about rights.
	legal = regexp.MustCompile(`(?i)copyright|licen[sc]e|\(c\) |all rights|spdx|redistribut|warrant|applicable law|permission` +
		`|free software`)
	// forPrograms matches lines for an editor or a linter, and those that only separate.
	forPrograms = regexp.MustCompile(`(?i)-\*-|\bvim?:|^shellcheck|^[^\pL\pN]*$|^\$`)
)
