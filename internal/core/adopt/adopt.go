// Package adopt works out declarations for a repository that has none, or not
// for all of it: which projects there are, which scripts they have, what these
// take in and make as far as can be told, and whether reusing what they make
// looks safe. In go files; out come findings, questions, and the texts of
// declarations. Nothing is run and nothing is written here.
//
// It reads npm manifests, Go modules and workspaces, Makefiles, shell scripts,
// and Cargo and Python manifests as far as these standard files tell. What it
// cannot tell it says, and proposes what is safe instead: a task whose outputs
// are not known is declared without them, and so always runs.
package adopt

import (
	"io/fs"
	"path"
	"slices"
	"strings"
)

// Repo is the repository that is looked at.
type Repo struct {
	FS    fs.FS
	Name  string
	Files []string // that git tracks or does not ignore, sorted, from the root
}

// Project is a directory with scripts.
type Project struct {
	Dir   string // from the root; "." is the root
	Via   []string
	Tasks []*Task // sorted by name
	Needs []Need  // sorted by directory
	Stem  string  // of the kind that projects like it would have
	// Offers are patterns; none stands for the project's own files.
	Offers []string
	Tags   []string
}

// Need is a project that another builds on, and how that is known.
type Need struct{ Dir, Why string }

// Task is a script, or what a manifest stands for.
type Task struct {
	Name   string
	Run    string
	From   string // where it was found: "scripts.build in web/package.json"
	Script string // what its text says, for judging it
	Help   string
	Sort   Ecosystem
	Why    string // why it was sorted so
	// Reads are patterns beside the project's own files; an empty list with
	// Own unset leaves the declaration to its default.
	Reads     []string
	Writes    []string // nil: not known; empty: nothing
	WritesWhy string
	Probes    []string
	After     []string
	Variables []string
	Settings  map[string]string // variable → setting that gives its value
	Secrets   []string
}

// Sort says how far reusing a task's outputs looks safe.
type Ecosystem int

// The sorts.
const (
	Reusable      Ecosystem = iota // it makes the same from the same
	NeverReusable                  // it should run whenever it is asked for
	NotAdopted                     // it acts on the world, or does not end: not declared
)

// Probe is a toolchain whose version counts.
type Probe struct{ Name, Run string }

// Survey is what was found.
type Survey struct {
	Repo      *Repo
	Projects  []*Project // sorted by directory
	Probes    []Probe
	Variables []*Variable
	Notes     []string
}

// Choices are what a person may decide before looking.
type Choices struct {
	// Split makes projects of a Go module's directories; unset leaves a module
	// one project.
	Split map[string]bool // by the module's directory
}

// Look finds projects and scripts.
func Inspect(r *Repo, c Choices) *Survey {
	s := &surveyor{repo: r, files: map[string]bool{}, projects: map[string]*Project{}, survey: &Survey{Repo: r}}
	for _, f := range r.Files {
		s.files[f] = true
	}
	s.goModules(c)
	s.npm()
	s.cargo()
	s.python()
	s.makefiles()
	s.scripts()
	return s.finish()
}

// surveyor gathers what is found.
type surveyor struct {
	repo     *Repo
	files    map[string]bool
	projects map[string]*Project
	probes   []Probe
	survey   *Survey
}

func (s *surveyor) read(name string) (string, bool) {
	b, err := fs.ReadFile(s.repo.FS, name)
	return string(b), err == nil
}

func (s *surveyor) note(text string) { s.survey.Notes = append(s.survey.Notes, text) }

func (s *surveyor) probe(name, run string) string {
	if !slices.ContainsFunc(s.probes, func(p Probe) bool { return p.Name == name }) {
		s.probes = append(s.probes, Probe{name, run})
	}
	return name
}

// named returns the files of that base name, those nearer to the root first.
// What lies in directories that hold others' sources is passed over.
func (s *surveyor) named(base string) []string {
	var out []string
	for _, f := range s.repo.Files {
		if path.Base(f) == base && !foreign(f) {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return strings.Count(a, "/") - strings.Count(b, "/") })
	return out
}

// foreign tells whether a path lies where sources of others are kept, or
// samples for tests.
func foreign(p string) bool {
	for seg := range strings.SplitSeq(path.Dir(p), "/") {
		switch seg {
		case "node_modules", "vendor", "testdata", "third_party", "fixtures", "__fixtures__", ".git", ".grayloft":
			return true
		}
		if strings.HasPrefix(seg, "_") {
			return true
		}
	}
	return false
}

func (s *surveyor) project(dir, via string) *Project {
	p := s.projects[dir]
	if p == nil {
		p = &Project{Dir: dir}
		s.projects[dir] = p
	}
	if !slices.Contains(p.Via, via) {
		p.Via = append(p.Via, via)
	}
	return p
}

// add adds a task unless one of that name is there: what was found first is
// nearer to the sources.
func (p *Project) add(t *Task) bool {
	if p.Task(t.Name) != nil {
		return false
	}
	p.Tasks = append(p.Tasks, t)
	return true
}

// Task returns the task of that name, or nil.
func (p *Project) Task(name string) *Task {
	for _, t := range p.Tasks {
		if t.Name == name {
			return t
		}
	}
	return nil
}

func (p *Project) need(dir, why string) {
	if dir != p.Dir && !slices.ContainsFunc(p.Needs, func(n Need) bool { return n.Dir == dir }) {
		p.Needs = append(p.Needs, Need{dir, why})
	}
}

// within returns the innermost project that holds a path, or nothing.
func (s *surveyor) within(p string) (string, bool) {
	for d := path.Dir(p); ; d = path.Dir(d) {
		if s.projects[d] != nil {
			return d, true
		}
		if d == "." || d == "/" {
			return "", false
		}
	}
}

func (s *surveyor) finish() *Survey {
	out := s.survey
	for _, dir := range sortedKeys(s.projects) {
		p := s.projects[dir]
		slices.SortFunc(p.Needs, func(a, b Need) int { return strings.Compare(a.Dir, b.Dir) })
		p.Needs = slices.DeleteFunc(p.Needs, func(n Need) bool { return s.projects[n.Dir] == nil })
		out.Projects = append(out.Projects, p)
	}
	s.breakCircles(out)
	for _, p := range out.Projects {
		s.complete(p)
		slices.SortFunc(p.Tasks, func(a, b *Task) int { return strings.Compare(a.Name, b.Name) })
	}
	out.Projects = slices.DeleteFunc(out.Projects, func(p *Project) bool { return len(p.Tasks) == 0 && !s.needed(p.Dir) })
	out.Probes = s.probes
	s.variables()
	return out
}

func (s *surveyor) needed(dir string) bool {
	for _, p := range s.projects {
		if slices.ContainsFunc(p.Needs, func(n Need) bool { return n.Dir == dir }) {
			return true
		}
	}
	return false
}

// breakCircles takes out the needs that close a circle, and says so.
func (s *surveyor) breakCircles(out *Survey) {
	state := map[string]int{}
	var walk func(p *Project)
	walk = func(p *Project) {
		state[p.Dir] = 1
		p.Needs = slices.DeleteFunc(p.Needs, func(n Need) bool {
			switch state[n.Dir] {
			case 0:
				walk(s.projects[n.Dir])
			case 1:
				s.note(p.Dir + " and " + n.Dir + " need each other; that " + p.Dir + " needs " + n.Dir + " (" + n.Why + ") is left out: move what both need into a project of its own")
				return true
			}
			return false
		})
		state[p.Dir] = 2
	}
	for _, p := range out.Projects {
		if state[p.Dir] == 0 {
			walk(p)
		}
	}
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
