package check

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/edit"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/core/survey"
)

// relations are what projects use of each other, as their files tell.
type relations struct {
	why       map[[2]*graph.Project]string // user and used → the evidence
	surround  map[[2]*graph.Project]bool   // user and a project around it of which it reads files
	languages map[*graph.Project][]string  // in which imports were read
}

// related finds out what projects use of each other.
func (in *Inspection) related() *relations {
	g := in.Graph
	out := &relations{
		why: map[[2]*graph.Project]string{}, surround: map[[2]*graph.Project]bool{}, languages: map[*graph.Project][]string{},
	}
	repo := &survey.Repo{FS: in.FS, Name: g.Repo.Name, Files: in.own, Imports: in.sources}
	split := map[string]bool{}
	modules := map[string][]string{}
	if in.hasSeveralIn("go.mod") {
		modules = survey.Splittable(repo)
	}
	for module, dirs := range modules {
		split[module] = slices.ContainsFunc(
			dirs,
			func(d string) bool { p := g.Containing(d); return p != nil && p.Dir == d && d != module },
		)
	}
	for _, p := range survey.Relations(repo, survey.Choices{Split: split}) {
		user := g.Containing(p.Dir)
		if user == nil || user.Dir != p.Dir && !p.IsBuilt() { // no task of a project around it compiles it
			continue
		}
		out.languages[user] = append(out.languages[user], p.Via...)
		for _, n := range p.Needs {
			out.add(user, g.Containing(n.Dir), n.Why)
		}
	}
	for _, f := range in.own {
		if path.Base(f) == "go.mod" {
			in.replaced(out, f)
		}
	}
	for _, p := range g.Projects {
		for _, t := range p.Tasks {
			in.declared(out, t)
		}
	}
	return out
}

// hasSeveralIn tells whether some project is inside a directory that has a manifest
// of that name, and has none itself.
func (in *Inspection) hasSeveralIn(name string) bool {
	dirs := map[string]bool{}
	for _, f := range in.Files {
		if path.Base(f) == name {
			dirs[path.Dir(f)] = true
		}
	}
	return slices.ContainsFunc(in.Graph.Projects, func(p *graph.Project) bool {
		for d := p.Dir; !dirs[p.Dir] && d != "."; d = path.Dir(d) {
			if dirs[path.Dir(d)] {
				return true
			}
		}
		return false
	})
}

// replaced adds the directories that a go.mod, or a workspace that uses it, puts in
// place of modules that it requires: a build reads them, whether they are imported or
// not.
func (in *Inspection) replaced(r *relations, file string) {
	m, err := modfile.Parse(file, []byte(in.text(file)), nil)
	user := in.Graph.Owner(file)
	if err != nil || user == nil {
		return
	}
	r.replaced(in.Graph, user, m, file, m.Replace)
	for _, f := range in.workFiles(path.Dir(file)) {
		if w, err := modfile.ParseWork(f, []byte(in.text(f)), nil); err == nil {
			r.replaced(in.Graph, user, m, f, w.Replace)
		}
	}
}

// workFiles returns the go.work files around a directory.
func (in *Inspection) workFiles(dir string) (out []string) {
	for ; ; dir = path.Dir(dir) {
		if f := path.Join(dir, "go.work"); in.text(f) != "" {
			out = append(out, f)
		}
		if dir == "." {
			return out
		}
	}
}

func (r *relations) replaced(g *graph.Graph, user *graph.Project, m *modfile.File, file string, list []*modfile.Replace) {
	for _, x := range list {
		required := slices.ContainsFunc(m.Require, func(q *modfile.Require) bool { return q.Mod.Path == x.Old.Path })
		if required && modfile.IsDirectoryPath(x.New.Path) && !path.IsAbs(x.New.Path) {
			dir := path.Join(path.Dir(file), x.New.Path)
			why := fmt.Sprintf("%s:%d replaces %s by %s", file, x.Syntax.Start.Line, x.Old.Path, x.New.Path)
			r.add(user, g.Containing(dir), why)
		}
	}
}

func (r *relations) add(user, used *graph.Project, why string) {
	if used == nil || user == used {
		return
	}
	if _, ok := r.why[[2]*graph.Project{user, used}]; !ok {
		r.why[[2]*graph.Project{user, used}] = why
	}
}

// declared adds what a task's own declaration takes from other projects.
func (in *Inspection) declared(r *relations, t *graph.Task) {
	g := in.Graph
	for _, x := range t.Reads {
		if x.Scope != decl.Root || x.Negated {
			continue
		}
		start := x.Pattern.LiteralStart()
		if start == "" || isManifest(start) {
			continue
		}
		owner := g.Owner(strings.TrimSuffix(start, "/") + "/x")
		if owner != nil && isAround(owner, t.Project) {
			r.surround[[2]*graph.Project{t.Project, owner}] = true
			continue
		}
		r.add(t.Project, owner, fmt.Sprintf("%s reads %s", t.Addr(), x.Item.Text))
	}
	for _, it := range t.Decl.After.Items {
		task, project, ok := strings.Cut(it.Text, "@")
		if ok && !strings.ContainsAny(project, "*?[{:") {
			r.add(t.Project, g.Project(project), fmt.Sprintf("%s runs after %s@%s", t.Addr(), task, project))
		}
	}
}

// isAround tells whether a project's directory contains that of another one. To read its files,
// such as a configuration for all directories below, is no use of it: to need it would mean
// all that it offers.
func isAround(outer, inner *graph.Project) bool {
	return outer != inner && (outer.Dir == "." || strings.HasPrefix(inner.Dir, outer.Dir+"/"))
}

// isManifest tells whether a file says what a module is, and is no part of what it
// offers: to read it is no use of its project.
func isManifest(file string) bool {
	return slices.Contains(
		[]string{"go.mod", "go.sum", "go.work", "package.json", "package-lock.json", "Cargo.toml", "Cargo.lock"},
		path.Base(file),
	)
}

// needsMissing finds projects that use another one without naming it in needs,
// themselves or through what they need. What comes with another one that is missing is
// not reported.
func needsMissing(in *Inspection) (out []Finding) {
	missing := map[*graph.Project][]string{} // that can be added
	var found []Finding
	for pair, why := range in.relations.why {
		user, used := pair[0], pair[1]
		if slices.Contains(user.NeedsAll, used) || slices.Contains(used.NeedsAll, user) && isDeclaredOnly(why) {
			continue
		}
		f := at(needsPos(user), user.Name, user.Name+" needs "+used.Name, "")
		uses := fmt.Sprintf("%s uses %s (%s)", user.Name, used.Name, why)
		switch {
		case slices.Contains(used.NeedsAll, user):
			f.Message = fmt.Sprintf("%s, which needs %s: one of them has to be divided", uses, user.Name)
		case !used.OffersTo(user):
			f.Message = uses + ", which does not offer itself to it: change offers_to, or do without"
		default:
			f.Message = fmt.Sprintf("%s: add %q to its needs", uses, used.Name)
			missing[user] = append(missing[user], used.Name)
		}
		found = append(found, f)
	}
	for user, list := range missing {
		missing[user] = in.withoutImplied(list)
	}
	for _, f := range found {
		user, used, _ := strings.Cut(f.Subject, " needs ")
		p := in.Graph.Project(user)
		switch {
		case slices.Contains(missing[p], used):
			f.Edits = in.addNeed(p, used, missing[p])
		case strings.HasSuffix(f.Message, "to its needs"):
			continue
		}
		out = append(out, f)
	}
	return out
}

// withoutImplied returns the projects of a list that no other one of it needs, sorted.
func (in *Inspection) withoutImplied(list []string) (out []string) {
	for _, name := range list {
		comesWith := func(other string) bool {
			return other != name && slices.Contains(in.Graph.Project(other).NeedsAll, in.Graph.Project(name))
		}
		if !slices.ContainsFunc(list, comesWith) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func isDeclaredOnly(why string) bool { return strings.Contains(why, " runs after ") }

func needsPos(p *graph.Project) decl.Pos {
	if len(p.Project.Needs) > 0 {
		return p.Project.Needs[0].Pos
	}
	return p.Pos
}

var (
	emptyNeeds = pattern.New(`(?m)^[ \t]*needs[ \t]*=[ \t]*\[((?:[ \t\r\n]|#[^\n]*\n)*)\]`)
	header     = pattern.New(`(?m)^[ \t]*\[[ \t]*project[ \t]*\][^\n]*\n`)
	simpleKey  = pattern.New(`^([ \t]*)([a-z_]+)([ \t]*)=[ \t]*("[^"\n]*"|\[[^\[\]\n]*\])[ \t]*(#[^\n]*)?\r?\n`)
)

// addNeed returns the edit that adds a need to a project's declaration. Where there
// is no list yet, the edit makes one with all that are missing: it is the same for
// each of them, and made once.
func (in *Inspection) addNeed(p *graph.Project, name string, all []string) []edit.Edit {
	file := p.Pos.File
	text := in.text(file)
	if list := p.Project.Needs; len(list) > 0 {
		return with(text, list, fmt.Sprintf("%q", name))
	}
	quoted := fmt.Sprintf("%q", all)
	quoted = strings.ReplaceAll(quoted[1:len(quoted)-1], `" "`, `", "`)
	if m := emptyNeeds.FindStringSubmatchIndex(text); m != nil {
		if inside := text[m[2]:m[3]]; strings.Contains(inside, "\n") { // before the line of the bracket
			at := m[2] + strings.LastIndexByte(inside, '\n') + 1
			return []edit.Edit{edit.Between(file, text, at, at, "  "+quoted+","+edit.Ending(text))}
		}
		return []edit.Edit{edit.Between(file, text, m[2], m[3], quoted)}
	}
	if m := header.FindStringIndex(text); m != nil {
		at, key := afterKeys(text, m[1])
		return []edit.Edit{edit.Between(file, text, at, at, key+"= ["+quoted+"]"+edit.Ending(text))}
	}
	return nil
}

// afterKeys returns the place after the keys that follow a header, one on each
// line, and how another one, needs, is written there: indented and aligned as they
// are.
func afterKeys(text string, at int) (place int, key string) {
	key = "needs "
	for {
		m := simpleKey.FindStringSubmatchIndex(text[at:])
		if m == nil {
			return at, key
		}
		line := text[at:]
		indent, width := line[m[2]:m[3]], m[7]-m[4]
		key = indent + fmt.Sprintf("%-*s", max(width, len("needs ")), "needs")
		at += m[1]
	}
}

// needsUnused finds needs that no import, manifest, read or after of a project
// uses. It judges only projects whose imports it reads, about projects that would
// be imported in the same language: what else a need is for, files do not tell.
func needsUnused(in *Inspection) (out []Finding) {
	r := in.relations
	for _, p := range in.Graph.Projects {
		for n, it := range p.Project.Needs {
			used := in.Graph.Project(it.Text)
			pair := [2]*graph.Project{p, used}
			if used == nil || r.why[pair] != "" || r.surround[pair] || offersOther(used) ||
				!sharesLanguage(r.languages[p], r.languages[used]) {
				continue
			}
			if in.leadsTo(p, used) {
				continue
			}
			f := at(it.Pos, p.Name, p.Name+" needs "+used.Name, "nothing in %s uses %s: remove it from needs", p.Name, used.Name)
			f.Edits = without(in.text(it.Pos.File), p.Project.Needs, n)
			out = append(out, f)
		}
	}
	return out
}

// leadsTo tells whether a file or a task of a project names a path to another project, as
// configurations do that name sources, or whether a file around it that a task reads names the other one.
func (in *Inspection) leadsTo(p, used *graph.Project) bool {
	for _, t := range p.Tasks {
		if survey.NamesPathsTo(strings.Join(t.Decl.Run.Words(), " "), path.Join(p.Dir, "x"), p.Dir, used.Dir) {
			return true
		}
		for _, x := range t.Reads {
			file := x.Pattern.LiteralStart()
			if x.Scope == decl.Root && !x.Negated && survey.MayName(file) && in.Graph.Owner(file) != p && in.names(file, used) {
				return true
			}
		}
	}
	return slices.ContainsFunc(in.own, func(f string) bool {
		return in.Graph.Owner(f) == p && survey.MayName(f) && survey.NamesPathsTo(in.text(f), f, p.Dir, used.Dir)
	})
}

// names tells whether a file names a project: by its directory, or as a package.
func (in *Inspection) names(file string, p *graph.Project) bool {
	var m struct{ Name string }
	_ = json.Unmarshal([]byte(in.text(path.Join(p.Dir, "package.json"))), &m) // it may have none
	text := in.text(file)
	return strings.Contains(text, p.Dir) || m.Name != "" && strings.Contains(text, m.Name)
}

// languages in which imports tell what is used.
var imported = []string{"go", "npm"}

func sharesLanguage(a, b []string) bool {
	return slices.ContainsFunc(imported, func(l string) bool { return slices.Contains(a, l) && slices.Contains(b, l) })
}

// offersOther tells whether a project offers outputs of its tasks: they are read
// as files, and imports do not tell by whom.
func offersOther(p *graph.Project) bool {
	return slices.ContainsFunc(p.Tasks, func(t *graph.Task) bool { return len(t.Writes) > 0 })
}
