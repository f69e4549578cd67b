package check

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// patternEmpty finds reads that match no file and no output. Of kinds, only reads
// that name one file count, if they match nothing in any project of the kind.
func patternEmpty(in *Inspection) (out []Finding) {
	byProject := map[*graph.Project][]string{}
	for _, f := range in.Files {
		if p := in.Graph.Owner(f); p != nil {
			byProject[p] = append(byProject[p], f)
		}
	}
	type reading struct {
		pos   decl.Pos
		text  string
		owner string
	}
	matched := map[reading]bool{}
	for _, t := range in.Graph.Tasks {
		for _, r := range t.Reads {
			if r.Scope == decl.Needs || r.Negated || r.Item.Pos.Line == 0 {
				continue
			}
			owner := t.Project.Name
			if r.Item.Pos.Kind != "" {
				if !r.Pattern.Literal() {
					continue // a kind says what its projects may have
				}
				owner = ""
			}
			key := reading{r.Item.Pos, r.Item.Text, owner}
			matched[key] = matched[key] || in.matches(t, r, byProject)
		}
	}
	for key, ok := range matched {
		if !ok {
			in := ""
			if key.owner == "" {
				in = ", in any project of the kind"
			}
			out = append(out, at(key.pos, key.owner, key.text, "%q matches no file%s: correct it, or remove it", key.text, in))
		}
	}
	return out
}

// matches tells whether a read of a task matches a file, or what a task writes, or leads to what git
// ignores.
func (in *Inspection) matches(t *graph.Task, r decl.Read, byProject map[*graph.Project][]string) bool {
	files, whole, start := in.Files, r.Pattern, r.Pattern.LiteralStart()
	if r.Scope == decl.Own {
		files, whole, start = byProject[t.Project], r.Pattern.Under(t.Project.Dir), path.Join(t.Project.Dir, start)
	}
	if in.Ignored[start] || slices.ContainsFunc(files, whole.Match) {
		return true
	}
	return slices.ContainsFunc(in.Graph.Tasks, func(u *graph.Task) bool {
		if r.Scope == decl.Own && u.Project != t.Project {
			return false
		}
		for _, w := range u.Writes {
			if w.Under(u.Project.Dir).Meets(whole) {
				return true
			}
		}
		return false
	})
}

// homePrivate finds directories of the home that are none of a toolchain: a sealed task gets them
// only where the person allowed it.
func homePrivate(in *Inspection) (out []Finding) {
	look := func(pos decl.Pos, project, text string) {
		if dir, ok := strings.CutPrefix(text, "home:"); ok && !decl.IsToolHome(dir) {
			out = append(out, at(pos, project, text,
				"%q may have private files: name a directory of a toolchain or a cache, or else each person has to allow it", text))
		}
	}
	for _, t := range in.Graph.Tasks {
		for _, it := range t.Decl.Scratch.Items {
			look(it.Pos, t.Project.Name, it.Text)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(in.Graph.Repo.Probes)) {
		for _, dir := range in.Graph.Repo.Probes[name].Dirs {
			look(in.Graph.Repo.Probes[name].Pos, "", dir)
		}
	}
	return out
}

// writesTracked finds outputs that git tracks: running the task changes the
// checkout, and its result depends on who committed last.
func writesTracked(in *Inspection) (out []Finding) {
	for _, f := range in.Tracked {
		p := in.Graph.Owner(f)
		if p == nil {
			continue
		}
		for _, t := range p.Tasks {
			if t.WritesFile(f) {
				pos := t.Decl.Writes.Pos
				out = append(
					out,
					at(
						pos,
						p.Name,
						f,
						"git tracks %s, which %s writes: git rm --cached %s, and add it to .gitignore",
						f,
						t.Addr(),
						f,
					),
				)
			}
		}
	}
	return out
}

// unused finds names that are declared and not used.
func unused(in *Inspection) (out []Finding) {
	repo := in.Graph.Repo
	used := in.usedNames()
	note := func(what, name string, pos decl.Pos) {
		if !used[what+":"+name] && !isImported(pos) {
			out = append(out, at(pos, "", what+":"+name, "nobody uses the %s %q: remove it", what, name))
		}
	}
	for name, k := range repo.Kinds {
		note("kind", name, k.Pos)
	}
	for name, p := range repo.Probes {
		note("probe", name, p.Pos)
	}
	for name, s := range repo.Settings {
		note("setting", name, s.Pos)
	}
	for name, s := range repo.Picks {
		if !used["pick:"+name] && !isImported(s.Where.Pos) && !in.mentioned("pick:"+name) {
			out = append(
				out,
				at(s.Where.Pos, "", "pick:"+name, "no file names pick:%s: remove it, or allow it if people type it", name),
			)
		}
	}
	return append(out, unread(in)...)
}

// unread finds declarations of projects that no pattern of the repository leads to. Those of
// templates are for projects to come.
func unread(in *Inspection) (out []Finding) {
	read := map[string]bool{}
	for _, p := range in.Graph.Projects {
		read[p.Dir] = true
	}
	for _, f := range in.own {
		pos, dir := decl.Pos{File: f, Line: 1}, path.Dir(f)
		if path.Base(f) != decl.ProjectFile || read[dir] || isImported(pos) || in.isTemplate(f) {
			continue
		}
		out = append(out, at(pos, "", "file:"+f,
			"nothing reads %s: add %q to [repo] projects in %s, or delete it", f, dir, decl.RootFile))
	}
	return out
}

// isTemplate tells whether a file is part of the template of a kind.
func (in *Inspection) isTemplate(file string) bool {
	for _, k := range in.Graph.Repo.Kinds {
		if dir := k.Template.Text; dir != "" && strings.HasPrefix(file, dir+"/") {
			return true
		}
	}
	return false
}

// isImported tells whether a position is in a file of another repository: what it
// declares is for all who import it.
func isImported(pos decl.Pos) bool { return strings.HasPrefix(pos.File, decl.ImportsDir+"/") }

// usedNames returns the kinds, probes, settings and picks that declarations use.
func (in *Inspection) usedNames() map[string]bool {
	used := map[string]bool{}
	task := func(t *decl.TaskDecl) {
		for _, p := range t.Probes.Items {
			used["probe:"+p.Text] = true
		}
	}
	for _, k := range in.Graph.Repo.Kinds {
		for _, t := range k.Tasks {
			task(t)
			for _, s := range t.Settings.Items {
				used["setting:"+s.Text] = true
			}
		}
	}
	for _, p := range in.Graph.Projects {
		for _, k := range p.Kinds {
			used["kind:"+k.Text] = true
		}
		for _, t := range p.Tasks {
			task(t.Decl)
			for _, s := range t.Settings {
				used["setting:"+s] = true
			}
		}
	}
	for _, s := range in.Graph.Repo.Picks {
		for _, word := range strings.FieldsFunc(s.Where.Text, func(r rune) bool { return strings.ContainsRune(" ()\"'", r) }) {
			if strings.HasPrefix(word, "pick:") {
				used[word] = true
			}
		}
	}
	return used
}

// Endings of files in which a command may name a pick. Of JSON, only manifests
// count: a baseline names what is not used.
var scripts = []string{".yml", ".yaml", ".sh", ".mk", ".toml", ".md", ".py", ".js", ".mjs", ".ts", ".ps1", ".rb", ""}

// mentioned tells whether a script, manifest or text of the repository contains a
// word.
func (in *Inspection) mentioned(word string) bool {
	for _, f := range in.Files {
		isScript := slices.Contains(scripts, strings.ToLower(path.Ext(f))) || path.Base(f) == "package.json"
		if isScript && strings.Contains(in.fresh(f), word) {
			return true
		}
	}
	return false
}

// neverShared finds tasks whose results could be shared but for a key that is
// missing: once for a kind, otherwise for each task.
func neverShared(in *Inspection) (out []Finding) {
	type group struct {
		pos  decl.Pos
		name string
		lack string
	}
	groups := map[group][]*graph.Task{}
	for _, t := range in.Graph.Tasks {
		lack := ""
		switch {
		case t.Reuse == decl.Local || t.Reuse == decl.Never:
		case !t.WritesGiven():
			lack = "writes"
		case !t.ProbesGiven():
			lack = "probes"
		}
		if lack != "" {
			groups[group{t.Pos, t.Name, lack}] = append(groups[group{t.Pos, t.Name, lack}], t)
		}
	}
	for g, tasks := range groups {
		who, project, subject := tasks[0].Addr(), tasks[0].Project.Name, tasks[0].Addr()
		if g.pos.Kind != "" {
			who, project, subject = fmt.Sprintf(
				"%s of kind %s (in %s)",
				g.name,
				g.pos.Kind,
				amount.Count(len(tasks), "project", "projects"),
			), "", g.name+" of "+g.pos.Kind
		}
		fix := map[string]string{
			"writes": "it always runs; declare its writes, writes = [] if it writes nothing, or reuse = \"never\" if that is meant",
			"probes": "its results stay on this machine; declare its probes, probes = [] if it depends on no tool, " +
				"or reuse = \"local\" if that is meant",
		}[g.lack]
		out = append(out, at(g.pos, project, subject, "%s declares no %s: %s", who, g.lack, fix))
	}
	return out
}
