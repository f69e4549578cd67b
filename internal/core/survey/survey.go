// Package survey finds out what a repository consists of, without declarations: its projects, what they
// need of each other, their scripts, what these read and write, and which results look safe to reuse.
// It is given files, and returns findings. It runs nothing and writes nothing.
//
// It reads npm manifests, Go modules and workspaces, Makefiles, shell scripts, and Cargo and Python
// manifests. It says what these do not tell, and takes the safe choice then: the outputs of such a
// task are unknown.
package survey

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/imports"
)

// Repo is the repository to inspect.
type Repo struct {
	FS    fs.FS
	Name  string
	Files []string // tracked by git or not ignored; sorted, relative to the root
	// Imports reads what files import; it is made if there is none.
	Imports *imports.Reader
	Tracked []string // of the files, those that git tracks; nil: not known
}

// reader returns what reads the imports of files.
func (r *Repo) reader() *imports.Reader {
	if r.Imports == nil {
		r.Imports = imports.NewReader(r.FS, r.Files)
	}
	return r.Imports
}

// Project is a directory with scripts.
type Project struct {
	Dir   string // from the root; "." is the root
	Via   []string
	Tasks []*Task // sorted by name
	Needs []Need  // sorted by directory
	Stem  string  // tags of the kind that similar projects would share
	// Offers are patterns; none stands for the project's own files.
	Offers []string
	Tags   []string

	built func() bool // nil: it is
}

// IsBuilt tells whether the build constraints of some file admit this platform, where there are
// such constraints.
func (p *Project) IsBuilt() bool { return p.built == nil || p.built() }

// Need is a project that another project depends on, with the evidence.
type Need struct{ Dir, Why string }

// Task is a script, or a task that a manifest implies.
type Task struct {
	Name   string
	Run    string
	From   string // where it was found: "scripts.build in web/package.json"
	Script string // the script's text, used to classify it
	Help   string
	Sort   Reusability
	Why    string // why it was classified that way
	// Reads are patterns in addition to the project's own files. If the list is
	// empty and Own is unset, the declaration uses the default.
	Reads     []string
	Writes    []string // nil: unknown; empty: nothing
	WritesWhy string
	Probes    []string
	Scratch   []string
	Opens     []string
	After     []string
	Variables []string
	Settings  map[string]string // variable → the setting that gives its value
	Secrets   []string

	unsure   string   // what it uses that is not known; empty if nothing
	makes    []string // outputs that are known when it is found, from the project
	makesWhy string
	opaque   bool // it may run more than its script shows
}

// Reusability says how safe it looks to reuse a task's outputs.
type Reusability int

// The values of Reusability.
const (
	Reusable      Reusability = iota // the same inputs give the same outputs
	NeverReusable                    // it should run each time it is requested
	NotAdopted                       // it changes something elsewhere, or never ends: not declared
)

// Probe is a toolchain whose version is part of keys.
type Probe struct {
	Name, Run string
	Installed string // the record of a package manager, instead of a command
	Reads     []string
	Dirs      []string
	Always    bool // no file tells whether its output is the same: it runs in every run
}

// Survey is the result of an inspection.
type Survey struct {
	Repo      *Repo
	Projects  []*Project // sorted by directory
	Probes    []Probe
	Variables []*Variable
	Notes     []string
}

// Choices are the decisions a person may make before the inspection.
type Choices struct {
	// Split lists Go modules, by directory, whose directories become projects
	// of their own; other modules stay one project each.
	Split map[string]bool // by the module's directory
}

// Inspect finds projects and scripts.
func Inspect(r *Repo, c Choices) *Survey {
	s := newSurveyor(r)
	s.goModules(c)
	s.npm()
	s.cargo()
	s.python()
	s.makefiles()
	s.scripts()
	s.outside()
	return s.finish()
}

// Relations finds only which projects there are and what they need of each other,
// by their manifests and imports.
func Relations(r *Repo, c Choices) []*Project {
	s := newSurveyor(r)
	s.relationsOnly = true
	s.goModules(c)
	s.npm()
	s.cargo()
	s.python()
	out := make([]*Project, 0, len(s.projects))
	for _, dir := range sortedKeys(s.projects) {
		out = append(out, s.projects[dir])
	}
	return out
}

// surveyor collects the findings.
type surveyor struct {
	// relationsOnly tells that nobody asks for the tasks.
	relationsOnly bool
	sources       map[string][]string // JavaScript and TypeScript, by project
	repo          *Repo
	files         map[string]bool
	tracked       []string            // the files that git tracks, sorted
	byDir         map[string][]string // the files, by their directory
	byProject     map[string][]string // the files, by the directory of their project
	projects      map[string]*Project
	paths         map[string][]string // the words of files that may be paths
	npmDirs       map[string]string   // the directories of npm packages, by their name
	workspaces    bool                // the manifest at the root says which directories have packages
	installs      map[string]*Probe   // for what lock files install, by their directories
	probes        []Probe
	survey        *Survey
}

func newSurveyor(r *Repo) *surveyor {
	s := &surveyor{
		repo: r, files: map[string]bool{}, projects: map[string]*Project{}, paths: map[string][]string{}, survey: &Survey{Repo: r},
		installs: map[string]*Probe{}, tracked: slices.Sorted(slices.Values(r.Tracked)),
	}
	for _, f := range r.Files {
		s.files[f] = true
	}
	return s
}

func (s *surveyor) read(name string) (string, bool) {
	b, err := fs.ReadFile(s.repo.FS, name)
	return string(b), err == nil
}

func (s *surveyor) note(text string) { s.survey.Notes = append(s.survey.Notes, text) }

// deciding are the files at the root by which a tool, or what starts it, may decide which of its
// versions runs: its program stays the same while they change.
var deciding = map[string][]string{
	"go":     {".tool-versions", "go.mod", "go.work"},
	"node":   {".node-version", ".nvmrc", ".tool-versions"},
	"cargo":  {".tool-versions", "rust-toolchain", "rust-toolchain.toml"},
	"python": {".python-version", ".tool-versions"},
}

// probe adds a probe of a tool's version.
func (s *surveyor) probe(name, run string) string {
	reads := slices.DeleteFunc(slices.Clone(deciding[name]), func(f string) bool { return !s.files[f] })
	return s.addProbe(Probe{Name: name, Run: run, Reads: reads})
}

// addProbe adds a probe, under a name of its own if one of that name is another one.
func (s *surveyor) addProbe(p Probe) string {
	base := p.Name
	for n := 2; ; n++ {
		i := slices.IndexFunc(s.probes, func(o Probe) bool { return o.Name == p.Name })
		if i < 0 {
			s.probes = append(s.probes, p)
			return p.Name
		}
		o := s.probes[i]
		if o.Run == p.Run && o.Installed == p.Installed && slices.Equal(o.Reads, p.Reads) && slices.Equal(o.Dirs, p.Dirs) {
			return p.Name
		}
		p.Name = fmt.Sprintf("%s-%d", base, n)
	}
}

// named returns the files with that base name, those nearest to the root first.
// It skips directories that contain third-party sources.
func (s *surveyor) named(base string) []string {
	var out []string
	for _, f := range s.repo.Files {
		if path.Base(f) == base && !imports.IsForeign(f) {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return strings.Count(a, "/") - strings.Count(b, "/") })
	return out
}

// below returns the files in a directory and those in it: they follow each other.
func (s *surveyor) below(dir string) []string {
	if dir == "." {
		return s.repo.Files
	}
	start, _ := slices.BinarySearch(s.repo.Files, dir+"/")
	end, _ := slices.BinarySearch(s.repo.Files, dir+"0") // the byte after a slash
	return s.repo.Files[start:end]
}

// inDirectory returns the files of a directory itself.
func (s *surveyor) inDirectory(dir string) []string {
	if s.byDir == nil {
		s.byDir = map[string][]string{}
		for _, f := range s.repo.Files {
			s.byDir[path.Dir(f)] = append(s.byDir[path.Dir(f)], f)
		}
	}
	return s.byDir[dir]
}

// above returns, as reads from the root, the files that are wanted in the directories around one.
func (s *surveyor) above(dir string, wanted func(file string) bool) (out []string) {
	if s.relationsOnly {
		return nil
	}
	for dir != "." {
		dir = path.Dir(dir)
		for _, f := range s.inDirectory(dir) {
			if wanted(f) {
				out = append(out, "repo:"+f)
			}
		}
	}
	slices.Sort(out)
	return out
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

// add adds a task unless one with that name exists: the first one found is
// closest to the sources.
func (p *Project) add(t *Task) bool {
	if p.Task(t.Name) != nil {
		return false
	}
	p.Tasks = append(p.Tasks, t)
	return true
}

// Task returns the task with that name, or nil.
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

// within returns the innermost project that contains a path, or nil.
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

// owned returns the files of each project, by its directory. All projects must have been found.
func (s *surveyor) owned() map[string][]string {
	if s.byProject == nil {
		s.byProject = map[string][]string{}
		for _, f := range s.repo.Files {
			if dir, ok := s.within(f); ok {
				s.byProject[dir] = append(s.byProject[dir], f)
			}
		}
	}
	return s.byProject
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
	needed := out.Needed()
	out.Projects = slices.DeleteFunc(out.Projects, func(p *Project) bool { return len(p.Tasks) == 0 && !needed[p.Dir] })
	out.Probes = s.probes
	s.variables()
	return out
}

// Needed returns the directories of projects that others need.
func (s *Survey) Needed() map[string]bool {
	out := map[string]bool{}
	for _, p := range s.Projects {
		for _, n := range p.Needs {
			out[n.Dir] = true
		}
	}
	return out
}

// breakCircles removes the needs that close a cycle and notes each one.
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
				s.note(
					fmt.Sprintf("%[1]s and %[2]s need each other; the need that %[1]s needs %[2]s (%[3]s) is left out: "+
						"move the code that both need into a project of its own", p.Dir, n.Dir, n.Why),
				)
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

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
