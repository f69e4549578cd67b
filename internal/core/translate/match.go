package translate

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pattern"
)

// bindings are what a comparison found: values of settings, variables that the task
// passes on, and arguments.
type bindings struct {
	set  map[string]string
	env  map[string]string
	args []string
}

// match tells whether the steps of a task do what old steps did. If not, it says what
// differs, where they are alike.
func (b *bindings) match(old, own []step, task *graph.Task) (d difference, ok bool) {
	if len(old) != len(own) {
		return d, false
	}
	for i := range old {
		if d, ok := b.step(old[i], own[i], task); !ok {
			if len(old) > 1 {
				d = difference{}
			}
			return d, false
		}
	}
	return difference{}, true
}

// difference is what is not the same, and how much is: the more, the higher.
type difference struct {
	alike int
	says  string
}

// How much of a command is alike.
const (
	sameProgram = iota + 1 // in the same directory
	sameTarget
	sameCommand
)

func (b *bindings) step(old, own step, task *graph.Task) (d difference, ok bool) {
	runs := "it runs " + own.text
	switch {
	case old.verb != own.verb:
		return d, false
	case !b.words(old.words, own.words):
		switch {
		case old.verb == "run" && sharesFile(old.words, own.words):
			return difference{sameProgram, runs}, false
		case old.dir != own.dir || old.verb == "run" || old.verb == "text":
			return d, false
		case old.words[0] == own.words[0]:
			return difference{sameTarget, runs}, false
		}
		return difference{sameProgram, runs}, false
	case old.dir != own.dir:
		return difference{sameCommand, fmt.Sprintf("it runs the same in %s, and the old command in %s", own.dir, old.dir)}, false
	}
	if says := b.variables(old, own, task); says != "" {
		return difference{sameCommand, says}, false
	}
	switch {
	case slices.Equal(old.args, own.args):
	case len(own.args) > 0:
		return difference{sameTarget, runs}, false
	default:
		b.args = old.args
		if old.verb == "script" && strings.HasPrefix(own.text, "npm ") {
			b.args = append([]string{"--"}, old.args...) // npm passes on what follows it
		}
	}
	return d, true
}

// sharesFile tells whether two commands name one file of the repository.
func sharesFile(a, b []string) bool {
	return slices.ContainsFunc(a, func(w string) bool { return strings.HasPrefix(w, "/") && slices.Contains(b, w) })
}

func (b *bindings) words(old, own []string) bool {
	if len(old) != len(own) {
		return false
	}
	for i := range old {
		if !b.word(old[i], own[i]) {
			return false
		}
	}
	return true
}

var placeholder = pattern.New(`%\{setting\.([^}]+)\}`)

// word tells whether a word of a task is an old one, with values for its settings.
func (b *bindings) word(old, own string) bool {
	if old == own {
		return true
	}
	names := placeholder.FindAllStringSubmatch(own, -1)
	if names == nil {
		return false
	}
	pattern := "(?s)^"
	at := 0
	for _, m := range placeholder.FindAllStringIndex(own, -1) {
		pattern += regexp.QuoteMeta(own[at:m[0]]) + "(.*)"
		at = m[1]
	}
	m := regexp.MustCompile(pattern + regexp.QuoteMeta(own[at:]) + "$").FindStringSubmatch(old)
	if m == nil {
		return false
	}
	for i, name := range names {
		if have, ok := b.set[name[1]]; ok && have != m[i+1] {
			return false
		}
		b.set[name[1]] = m[i+1]
	}
	return true
}

// variables compares the variables of an old step with those of a task's: each has to
// reach the task's command, by a setting or as it is.
func (b *bindings) variables(old, own step, task *graph.Task) (says string) {
	for name, value := range old.vars {
		given, has := own.vars[name]
		isPassed := slices.ContainsFunc(slices.Concat(task.Env, task.EnvUnkeyed, task.Secrets), func(e decl.EnvVar) bool {
			return e.Name == name && !e.Given
		})
		isGiven := slices.ContainsFunc(task.Env, func(e decl.EnvVar) bool { return e.Name == name && e.Given && e.Value == value })
		setting := slices.IndexFunc(
			task.Settings,
			func(s string) bool { return strings.EqualFold(strings.ReplaceAll(s, "-", "_"), name) },
		)
		switch {
		case has && b.word(value, given):
		case has:
			return fmt.Sprintf("it runs with %s=%s, and the old command with %s=%s", name, given, name, value)
		case isGiven:
		case isPassed:
			b.env[name] = value
		case setting >= 0: // the script reads it by its own variable
			b.set[task.Settings[setting]] = value
		default:
			return fmt.Sprintf(
				"it runs the same, but nothing passes %s on to it: declare a setting for it, or name it in env",
				name,
			)
		}
	}
	for name, given := range own.vars {
		if _, has := old.vars[name]; !has && !placeholder.MatchString(given) {
			return fmt.Sprintf("it runs with %s=%s, and the old command without", name, given)
		}
	}
	return ""
}
