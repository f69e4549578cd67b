package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/makefile"
	"grayloft.example/grayloft/internal/core/pattern"
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

// isMain tells whether a target is by custom what a Makefile is there to make.
func isMain(target string) bool { return target == "all" || target == "default" }

func isBuild(t *Task) bool { return t.Name == "build" }

// phony returns the targets that a Makefile declares phony, with their command lines, given which files
// are there as sources.
func phony(text string, isSource func(name string) bool) (out []*Task) {
	r := rules{makefile.Targets(text), makefile.VariablesOf(text), isSource}
	for _, t := range r.targets {
		if !t.Phony || strings.ContainsAny(t.Name, "$%") || (len(t.Recipe) == 0 && t.Before == "") {
			continue
		}
		x := &Task{Name: t.Name, Help: t.Help}
		x.Script, x.opaque = r.script(t)
		x.makes, x.makesWhy = r.made(t), "targets of its Makefile"
		onlyOthers := len(t.Recipe) == 0
		for dep := range strings.FieldsSeq(t.Before) {
			before, _ := makefile.Find(r.targets, dep)
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

// rules are those of a Makefile.
type rules struct {
	targets   []makefile.Target
	variables makefile.Variables
	isSource  func(name string) bool
}

// script returns the command lines of a target and of all that it depends on: those of every pattern,
// if something is made by one. It is opaque if a rule may be used that is not there.
func (r rules) script(t makefile.Target) (text string, opaque bool) {
	lines := slices.Clone(t.Recipe)
	seen, byPattern := map[string]bool{t.Name: true}, false
	for open := []string{t.Before}; len(open) > 0; open = open[1:] {
		for name := range strings.FieldsSeq(r.variables.Expand(open[0])) {
			next, isRule := makefile.Find(r.targets, name)
			if seen[name] || name == "|" {
				continue
			}
			seen[name] = true
			if len(next.Recipe) == 0 && !next.Phony && !r.isSource(name) {
				byPattern = true
				opaque = opaque || !r.hasPattern(name)
			}
			if isRule {
				lines = append(append(lines, "# first: "+name), next.Recipe...)
				open = append(open, next.Before)
			}
		}
	}
	for _, x := range r.targets {
		if byPattern && strings.Contains(x.Name, "%") {
			lines = append(append(lines, "# by a pattern: "+x.Name), x.Recipe...)
			for name := range strings.FieldsSeq(x.Before) {
				opaque = opaque || !strings.Contains(name, "%") && !r.isSource(name)
			}
		}
	}
	return r.variables.Expand(strings.Join(lines, "\n") + "\n"), opaque
}

// hasPattern tells whether a rule for a pattern makes a file.
func (r rules) hasPattern(name string) bool {
	return slices.ContainsFunc(r.targets, func(x makefile.Target) bool {
		before, after, ok := strings.Cut(x.Name, "%")
		return ok && len(x.Recipe) > 0 && strings.HasPrefix(name, before) && strings.HasSuffix(name, after)
	})
}

// isStamp matches files that say what was done elsewhere, such as an installation: with one from another
// machine, make would leave that out.
var isStamp = pattern.New(`(?i)(^|/)(\.[^/]*|[^/]*(stamp|installed|done|node_modules|venv)[^/]*)$`)

// made returns the files among what a phony target depends on, directly or through other phony ones, that
// are no sources: make makes them. It is nothing if that cannot be told.
func (r rules) made(t makefile.Target) (out []string) {
	seen := map[string]bool{}
	for open := []string{t.Name}; len(open) > 0; open = open[1:] {
		at, ok := makefile.Find(r.targets, open[0])
		if seen[open[0]] || !ok {
			continue
		}
		seen[open[0]] = true
		before, _, _ := strings.Cut(r.variables.Expand(at.Before), "|") // what follows is only to be there
		for name := range strings.FieldsSeq(before) {
			next, isRule := makefile.Find(r.targets, name)
			switch {
			case isStamp.MatchString(name):
				return nil
			case strings.ContainsAny(name, "$%*?#()") || path.IsAbs(name) || strings.HasPrefix(path.Clean(name), ".."):
				return nil
			case isRule && next.Phony:
				open = append(open, name)
			case !r.isSource(name) && !slices.Contains(out, path.Clean(name)):
				out = append(out, path.Clean(name))
			}
		}
	}
	return out
}
