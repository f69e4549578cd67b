package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pattern"
)

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
	legal = pattern.New(`(?i)copyright|licen[sc]e|\(c\) |all rights|spdx|redistribut|warrant|applicable law|permission` +
		`|free software`)
	// forPrograms matches lines for an editor or a linter, and those that only separate.
	forPrograms = pattern.New(`(?i)-\*-|\bvim?:|^shellcheck|^[^\pL\pN]*$|^\$`)
)
