package translate

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// Wrap returns a script to put in place of an old one, at a path from the root: it
// prints the new command and runs it. Variables that the old script had from outside
// give values to the settings of the same names; arguments are passed on.
func (r *Repo) Wrap(file, old string, list []Candidate) string {
	up := strings.Repeat("../", strings.Count(file, "/"))
	var b strings.Builder
	fmt.Fprintf(&b, "#!/bin/sh\n# In place of: %s\ncd \"$(dirname \"$0\")/%s\" || exit\n", oneLineOf(old), up)
	for i, c := range list {
		words := []string{"grayloft", "run", Quoted(c.Task)}
		for _, name := range slices.Sorted(maps.Keys(c.Set)) {
			words = append(words, "--set", Quoted(name+"="+c.Set[name]))
		}
		for _, name := range slices.Sorted(maps.Keys(c.Env)) {
			fmt.Fprintf(&b, "export %s=%s\n", name, Quoted(c.Env[name]))
		}
		isLast := i == len(list)-1
		if !isLast {
			fmt.Fprintf(&b, "echo %s >&2\n%s || exit\n", Quoted(strings.Join(words, " ")), strings.Join(words, " "))
			continue
		}
		r.wrapLast(&b, c, words)
	}
	return b.String()
}

// wrapLast writes the command that replaces the script's process.
func (r *Repo) wrapLast(b *strings.Builder, c Candidate, words []string) {
	args := ""
	for _, a := range c.Args {
		args += " " + Quoted(a)
	}
	if args == "" {
		b.WriteString("[ $# -eq 0 ] || set -- -- \"$@\"\n")
	} else {
		fmt.Fprintf(b, "set -- --%s \"$@\"\n", args)
	}
	for _, name := range r.Graph.Task(c.Task).Settings {
		if _, isSet := c.Set[name]; isSet {
			continue
		}
		variable := strings.ToUpper(strings.NewReplacer("-", "_", ".", "_", "/", "_").Replace(name))
		fmt.Fprintf(b, "[ -z \"${%[1]s-}\" ] || set -- --set \"%[2]s=$%[1]s\" \"$@\"\n", variable, name)
	}
	line := strings.Join(words, " ")
	fmt.Fprintf(b, "echo %s\"${*:+ $*}\" >&2\nexec %s \"$@\"\n", Quoted(line), line)
}

func oneLineOf(text string) string { return strings.Join(strings.Fields(text), " ") }

// Runs tells whether a task's command, or a script that it runs, is a file: a wrapper in
// its place would run itself.
func (r *Repo) Runs(task, file string) bool {
	t := &translator{Repo: r, known: nil}
	x := r.Graph.Task(task)
	for _, form := range t.forms(t.commandSteps(x.Decl.Run, x.Project.Dir)) {
		for _, s := range form {
			isFile := func(w string) bool {
				return w == "/"+file || path.Join(s.dir, w) == file || strings.Contains(w, path.Base(file)) && s.verb == "text"
			}
			if slices.ContainsFunc(s.words, isFile) {
				return true
			}
		}
	}
	return false
}
