// Package environment composes the environment variables of tasks and probes:
// fixed ones, a few of the person's own, and those that are declared.
package environment

import (
	"os"
	"runtime"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Environment is the environment of the person who runs the client, as
// NAME=value.
type Environment []string

// Lookup returns the value of a variable, and whether it is set.
func (e Environment) Lookup(name string) (string, bool) {
	for _, kv := range slices.Backward(e) {
		if val, ok := strings.CutPrefix(kv, name+"="); ok {
			return val, true
		}
	}
	return "", false
}

// Value returns the value of a declared variable: the given one, or else the
// person's.
func (e Environment) Value(v decl.EnvVar) (string, bool) {
	if v.Given {
		return v.Value, true
	}
	return e.Lookup(v.Name)
}

// Hide removes a variable from this process's environment, where the processes
// that it starts, and others of the same person, could read it, and returns its
// value.
func Hide(name string) string {
	value, ok := os.LookupEnv(name)
	if ok {
		_ = os.Unsetenv(name)
		hide(name)
	}
	return value
}

// Base returns the environment that every command gets.
func (e Environment) Base() []string {
	env := decl.FixedEnv()
	for _, name := range passedOn {
		if val, ok := e.Lookup(name); ok {
			env = append(env, name+"="+val)
		}
	}
	return env
}

// Task returns the environment of a task.
func (e Environment) Task(t *graph.Task) []string {
	env := e.Base()
	for _, v := range slices.Concat(t.Env, t.EnvUnkeyed, t.Secrets) {
		if val, ok := e.Value(v); ok {
			env = append(env, v.Name+"="+val)
		}
	}
	g := t.Graph()
	for _, name := range t.Settings {
		env = append(env, g.Repo.Settings[name].Var()+"="+g.Chosen[name])
	}
	return env
}

// Secrets returns the values of a task's secrets.
func (e Environment) Secrets(t *graph.Task) []string {
	var out []string
	for _, v := range t.Secrets {
		if val, ok := e.Value(v); ok {
			out = append(out, val)
		}
	}
	return out
}

// passedOn are the variables of the person's own environment that every task
// gets. They are not part of any key.
var passedOn = func() []string {
	names := []string{"PATH", "HOME", "TMPDIR"}
	if runtime.GOOS == "windows" {
		names = append(names, "SystemRoot", "USERPROFILE", "TEMP", "TMP", "LOCALAPPDATA", "APPDATA", "PATHEXT")
	}
	return names
}()
