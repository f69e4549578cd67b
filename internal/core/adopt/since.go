package adopt

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/core/survey"
)

// derived matches the commands that are proposed for scripts and manifests, with the
// program.
var derived = pattern.New(
	`\b(npm|yarn|pnpm) run --silent \S+|\bmake --silent \S+|\bgo (build|test|vet) |\bcargo (build|test)`,
)

// changedSince says what changed in a repository since its declarations were written
// that these do not show: scripts and packages that are gone, and uses of other
// projects. What is new is proposed.
func changedSince(s *survey.Survey, old *decl.Repo) (out []string) {
	found := map[string]*survey.Project{}
	for _, p := range s.Projects {
		found[p.Dir] = p
	}
	closure := needsOf(old)
	for _, d := range old.Projects {
		p := found[d.Dir]
		gone := false
		for _, t := range d.Tasks {
			command := derived.FindString(t.Decl.Run.String())
			switch {
			case command == "":
			case p == nil:
				gone = true
			case strings.Contains(command, "--silent") && !runs(p, command):
				advice := fmt.Sprintf("remove the task, or change its run (%s)", t.Pos.At())
				if t.Decl.Run.Pos.Kind != "" {
					advice = fmt.Sprintf("name it in omit (%s)", d.Pos.At())
				}
				out = append(out, fmt.Sprintf("%s runs %s, which is gone: %s", t.Addr(), command, advice))
			}
		}
		if gone {
			out = append(
				out,
				fmt.Sprintf("%s has no manifest, Makefile or source any more that its tasks run: remove %s", d.Name, d.Pos.File),
			)
		}
		if p == nil {
			continue
		}
		for _, n := range p.Needs {
			if name := nameIn(old, n.Dir); name != "" && name != d.Name && !closure[d.Name][name] {
				out = append(
					out,
					fmt.Sprintf("%s uses %s (%s): grayloft check needs-missing --fix adds it to needs", d.Name, name, n.Why),
				)
			}
		}
	}
	return out
}

// runs tells whether a script of a project is run by a command.
func runs(p *survey.Project, command string) bool {
	return slices.ContainsFunc(p.Tasks, func(t *survey.Task) bool { return strings.Contains(t.Run, command) })
}

// needsOf returns what each project needs, also through others.
func needsOf(old *decl.Repo) map[string]map[string]bool {
	direct := map[string][]string{}
	for _, p := range old.Projects {
		for _, n := range p.Needs {
			direct[p.Name] = append(direct[p.Name], n.Text)
		}
	}
	out := map[string]map[string]bool{}
	for name := range direct {
		out[name] = map[string]bool{}
		for list := slices.Clone(direct[name]); len(list) > 0; list = list[1:] {
			if !out[name][list[0]] {
				out[name][list[0]] = true
				list = append(list, direct[list[0]]...)
			}
		}
	}
	return out
}

// nameIn returns the name of the declared project around a directory.
func nameIn(old *decl.Repo, dir string) string {
	for ; ; dir = path.Dir(dir) {
		for _, p := range old.Projects {
			if p.Dir == dir {
				return p.Name
			}
		}
		if dir == "." {
			return ""
		}
	}
}
