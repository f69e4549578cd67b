// Package adopt proposes declarations for a repository that has none, or only some, from what a survey
// found: it returns their texts, and says what changed since they were written. A task whose outputs
// are unknown is declared without writes, so it always runs. It runs nothing and writes nothing.
package adopt

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/survey"
)

// File is a declaration file to write.
type File struct {
	Path string
	Old  string // empty if the file is new
	New  string
}

// Proposal is what would be written, and which findings it covers.
type Proposal struct {
	Files      []File // sorted by path
	Projects   []*survey.Project
	Tasks      int      // newly declared
	NotAdopted []string // what is not declared, with the reason
	Never      []string // what is declared and never reused, with the reason
	Always     []string // tasks that always run, because their outputs are unknown
	Kinds      []string
	Skipped    int      // tasks that are left alone on purpose
	Since      []string // what changed since the declarations were written, and adopt does not change
}

// Basics are the decisions about the repository as a whole.
type Basics struct {
	Name  string
	Since string
	// Skip are tasks and directories, as patterns, that are not proposed, beside those
	// that the declarations name.
	Skip []string
}

// Propose turns findings into declarations. Existing are the current
// declarations, or nil; it never changes them and only adds what is new.
func Propose(s *survey.Survey, b Basics, existing *decl.Repo) *Proposal {
	w := &proposer{
		s: s, basics: b, old: existing, out: &Proposal{}, texts: map[string]*text{}, reached: map[string]reached{},
		made: map[string][]string{},
	}
	w.news()
	w.kinds()
	w.root()
	for _, p := range w.projects {
		w.project(p)
	}
	w.files()
	if existing != nil {
		w.out.Since = changedSince(s, existing)
	}
	return w.out
}

type proposer struct {
	s        *survey.Survey
	basics   Basics
	old      *decl.Repo
	projects []*survey.Project // with something new
	fresh    map[*survey.Project][]*survey.Task
	groups   map[string][]*survey.Project // projects that would share a kind, by the kind's name
	shared   map[string][]*survey.Task    // tasks of kinds that are proposed
	texts    map[string]*text
	reached  map[string]reached
	made     map[string][]string        // what [proposer.makers] found, by directory
	needs    map[string]map[string]bool // of declared projects, also through others
	dirs     map[string]*decl.Project   // declared
	out      *Proposal
}

// declared returns the declared project in a directory, or nil.
func (w *proposer) declared(dir string) *decl.Project {
	if w.old == nil {
		return nil
	}
	if w.dirs == nil {
		w.dirs = map[string]*decl.Project{}
		for _, p := range w.old.Projects {
			w.dirs[p.Dir] = p
		}
	}
	return w.dirs[dir]
}

// news finds what is new: projects, and tasks whose name and command are not
// declared.
func (w *proposer) news() {
	w.fresh = map[*survey.Project][]*survey.Task{}
	needed := w.s.Needed()
	for _, p := range w.s.Projects {
		have := w.declared(p.Dir)
		for _, t := range p.Tasks {
			if have != nil && slices.ContainsFunc(have.Tasks, func(d *decl.Task) bool {
				return d.Name == t.Name || strings.Contains(d.Decl.Run.String(), t.Run)
			}) {
				continue
			}
			label := fmt.Sprintf("%s@%s", t.Name, w.name(p.Dir))
			if w.isSkipped(label, p.Dir) {
				w.out.Skipped++
				continue
			}
			switch {
			case t.Sort == survey.NotAdopted:
				w.out.NotAdopted = append(w.out.NotAdopted, label+": "+t.Why)
				continue
			case t.Sort == survey.NeverReusable:
				w.out.Never = append(w.out.Never, label+": "+t.Why)
			case t.Writes == nil:
				why := t.WritesWhy
				if why == "" {
					why = "nothing shows what it writes"
				}
				w.out.Always = append(w.out.Always, label+": "+why)
			}
			if slices.Contains(reservedNames, t.Name) {
				t.Name += "-task"
			}
			w.fresh[p] = append(w.fresh[p], t)
			w.out.Tasks++
		}
		isNew := have == nil && !w.isSkipped("", p.Dir) && needed[p.Dir]
		if isNew || len(w.fresh[p]) > 0 {
			w.projects = append(w.projects, p)
		}
	}
	w.out.Projects = w.projects
}

// isSkipped tells whether a task, or all of a directory, is left alone on purpose.
func (w *proposer) isSkipped(address, dir string) bool {
	skip := slices.Clone(w.basics.Skip)
	if w.old != nil {
		skip = append(skip, w.old.AdoptSkip...)
	}
	return slices.ContainsFunc(skip, func(text string) bool {
		p, err := glob.Parse(strings.TrimPrefix(text, "./"))
		return err == nil && (p.MatchExact(dir) || address != "" && p.MatchExact(address))
	})
}

// reservedNames are the keywords of picks, which cannot be names.
var reservedNames = []string{"or", "and", "not", "all", "changed", "affected", "needs", "needed_by", "tag", "kind", "owner", "pick"}

// name returns the name for the project in a directory.
func (w *proposer) name(dir string) string {
	if p := w.declared(dir); p != nil {
		return p.Name
	}
	if dir != "." {
		return dirName(dir)
	}
	if slices.ContainsFunc(w.s.Projects, func(p *survey.Project) bool { return p.Dir == w.basics.Name }) {
		return w.basics.Name + "-root"
	}
	return w.basics.Name
}

// dirName returns a valid project name for a directory whose own name contains
// characters that names may not have.
func dirName(dir string) string {
	name := strings.Map(func(r rune) rune {
		if strings.ContainsRune("@: \t\"'()!*?[]{}\\,", r) {
			return '-'
		}
		return r
	}, dir)
	name = strings.TrimLeft(name, "-")
	if slices.Contains(reservedNames, name) || name == "" {
		name += "-project"
	}
	return name
}

// kinds finds tasks that are the same in several projects.
func (w *proposer) kinds() {
	w.groups, w.shared = map[string][]*survey.Project{}, map[string][]*survey.Task{}
	for _, p := range w.projects {
		if p.Stem != "" && p.Dir != "." && w.declared(p.Dir) == nil {
			w.groups[p.Stem] = append(w.groups[p.Stem], p)
		}
	}
	for _, stem := range sortedKeys(w.groups) {
		group := w.groups[stem]
		if w.old != nil && w.old.Kinds[stem] != nil {
			continue // already declared: new projects use it as it is
		}
		if len(group) < 2 {
			delete(w.groups, stem)
			continue
		}
		alike := map[string][]*survey.Task{} // by the text that would be written
		for _, p := range group {
			for _, t := range w.fresh[p] {
				rows := w.rows(p, t)
				alike[t.Name+"\x00"+rows] = append(alike[t.Name+"\x00"+rows], t)
			}
		}
		best := map[string][]*survey.Task{}
		for _, key := range sortedKeys(alike) {
			name, _, _ := strings.Cut(key, "\x00")
			if n := len(alike[key]); n >= 2 && 2*n >= len(group) && n > len(best[name]) {
				best[name] = alike[key]
			}
		}
		for _, name := range sortedKeys(best) {
			w.shared[stem] = append(w.shared[stem], best[name][0])
		}
		if len(w.shared[stem]) == 0 {
			delete(w.groups, stem)
			continue
		}
		w.out.Kinds = append(w.out.Kinds, stem)
	}
}

// kindOf returns the kind that a project takes on, or "".
func (w *proposer) kindOf(p *survey.Project) string {
	if slices.Contains(w.groups[p.Stem], p) {
		return p.Stem
	}
	return ""
}

// kindHas tells whether the kind declares a task in the same way as the project
// would, or is an existing kind with a task of that name.
func (w *proposer) kindHas(kind string, p *survey.Project, t *survey.Task) bool {
	if kind == "" {
		return false
	}
	if w.old != nil && w.old.Kinds[kind] != nil {
		return w.old.Kinds[kind].Tasks[t.Name] != nil
	}
	return slices.ContainsFunc(w.shared[kind], func(k *survey.Task) bool {
		return k.Name == t.Name && w.rows(w.owner(k), k) == w.rows(p, t)
	})
}

func (w *proposer) owner(t *survey.Task) *survey.Project {
	for p, tasks := range w.fresh {
		if slices.Contains(tasks, t) {
			return p
		}
	}
	return nil
}

// project writes one project's tables.
func (w *proposer) project(p *survey.Project) {
	file := path.Join(p.Dir, decl.ProjectFile)
	if p.Dir == "." {
		file = decl.RootFile
	}
	have := w.declared(p.Dir)
	if have != nil {
		file = have.Pos.File
	}
	x := w.text(file)
	kind := w.kindOf(p)
	if have == nil {
		var t text
		if name := w.name(p.Dir); name != p.Dir && (p.Dir != "." || name != w.basics.Name) {
			t.key("name", name)
		}
		if kind != "" {
			t.key("kind", kind)
		}
		var needs []string
		for _, n := range p.Needs {
			needs = append(needs, w.name(n.Dir))
		}
		t.list("needs", needs)
		t.list("offers", w.offers(p, kind))
		t.list("omit", w.omitted(p, kind))
		if rows := t.aligned(); rows != "" || p.Dir != "." {
			x.table("project", rows)
		}
	}
	for _, t := range w.fresh[p] {
		if !w.kindHas(kind, p, t) {
			x.comment(comment(t))
			x.table("task."+tableName(t.Name), w.rows(p, t))
		}
	}
}

// root writes the repository-wide tables.
func (w *proposer) root() {
	x := w.text(decl.RootFile)
	var dirs []string
	for _, p := range w.projects {
		if p.Dir != "." && w.declared(p.Dir) == nil {
			dirs = append(dirs, p.Dir)
		}
	}
	if w.old == nil {
		x.raw("schema = 1\n")
		var t text
		t.key("name", w.basics.Name)
		t.list("projects", holders(dirs))
		if w.basics.Since != "" {
			t.key("since", w.basics.Since)
		}
		x.table("repo", t.aligned())
		if len(w.basics.Skip) > 0 {
			var t text
			t.list("skip", w.basics.Skip)
			x.table("adopt", t.aligned())
		}
	} else {
		w.extend(x, dirs)
		x.skip = w.basics.Skip
	}
	for _, p := range w.s.Probes {
		if !w.counts(p.Name) || (w.old != nil && w.old.Probes[p.Name] != nil) {
			continue
		}
		var t text
		if p.Installed != "" {
			t.key("installed", p.Installed)
		} else {
			t.key("run", p.Run)
		}
		if !p.Always && p.Installed == "" {
			t.always("reads", p.Reads)
		}
		t.list("dirs", p.Dirs)
		x.table("probe."+p.Name, t.aligned())
	}
	w.settings(x)
	for _, kind := range w.out.Kinds {
		var t text
		t.list("offers", w.groups[kind][0].Offers)
		if rows := t.aligned(); rows != "" {
			x.table("kind."+kind, rows)
		}
		for _, task := range w.shared[kind] {
			x.comment(kindComment(task))
			x.table("kind."+kind+".task."+tableName(task.Name), w.rows(w.owner(task), task))
		}
	}
}

// counts tells whether a newly declared task lists a probe.
func (w *proposer) counts(probe string) bool {
	for _, tasks := range w.fresh {
		for _, t := range tasks {
			if t.Sort == survey.Reusable && slices.Contains(t.Probes, probe) {
				return true
			}
		}
	}
	return false
}

func (w *proposer) settings(x *text) {
	for _, v := range w.s.Variables {
		if v.Use != survey.AsSetting || (w.old != nil && w.old.Settings[settingName(v.Name)] != nil) {
			continue
		}
		var t text
		if len(v.Values) > 0 {
			t.list("values", v.Values)
		}
		t.key("default", v.Default)
		t.key("help", "stands for "+v.Name)
		x.table("setting."+settingName(v.Name), t.aligned())
	}
}

// extend adds directories to [repo] projects if no pattern matches them yet.
func (w *proposer) extend(x *text, dirs []string) {
	var lack []string
	for _, d := range dirs {
		covered := slices.ContainsFunc(w.old.KindFiles, func(it decl.Item) bool {
			p, err := glob.Parse(it.Text)
			return err == nil && p.MatchExact(d)
		})
		if !covered {
			lack = append(lack, d)
		}
	}
	x.holders = holders(lack)
}

// holders returns patterns for directories: one pattern for several that share
// a parent.
func holders(dirs []string) []string {
	by := map[string][]string{}
	for _, d := range dirs {
		by[path.Dir(d)] = append(by[path.Dir(d)], d)
	}
	var out []string
	for _, parent := range sortedKeys(by) {
		if len(by[parent]) >= 2 && parent != "." {
			out = append(out, parent+"/*")
		} else {
			out = append(out, by[parent]...)
		}
	}
	slices.Sort(out)
	return out
}
