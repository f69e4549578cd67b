package adopt

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/makefile"
)

// makefiles finds the phony targets of Makefiles.
func (s *surveyor) makefiles() {
	for _, base := range makefile.Names {
		for _, f := range s.named(base) {
			text, _ := s.read(f)
			dir := path.Dir(f)
			targets := phony(text)
			if len(targets) == 0 {
				continue
			}
			p := s.project(dir, "make")
			for _, t := range targets {
				t.From = fmt.Sprintf("target %s in %s", t.Name, f)
				t.Run = "make --silent " + shellWord(t.Name)
				t.Name = plainName(t.Name)
				if t.Name == "" || strings.HasPrefix(t.Name, ".") {
					continue
				}
				if old := p.Task(t.Name); old != nil && strings.HasSuffix(old.From, "go.mod") {
					// A script written by a person takes precedence over a task
					// that a manifest implies.
					t.Reads, t.Probes, t.Writes = old.Reads, old.Probes, nil
					*old = *t
					continue
				}
				if p.Task("build") != nil && len(p.Task("build").Probes) > 0 {
					t.Probes = p.Task("build").Probes
				}
				p.add(t)
			}
		}
	}
}

// phony returns the targets that a Makefile declares phony, with their command lines.
func phony(text string) (out []*Task) {
	all := makefile.Targets(text)
	script := func(t makefile.Target) string {
		text := ""
		for _, line := range t.Recipe {
			text += line + "\n"
		}
		return text
	}
	for _, t := range all {
		if !t.Phony || strings.ContainsAny(t.Name, "$%") || (len(t.Recipe) == 0 && t.Before == "") {
			continue
		}
		x := &Task{Name: t.Name, Script: script(t), Help: t.Help}
		for dep := range strings.FieldsSeq(t.Before) {
			before, _ := makefile.Find(all, dep)
			x.Script += "# first: " + dep + "\n" + script(before)
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b *Task) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// scripts finds shell scripts in the usual directories.
func (s *surveyor) scripts() {
	for _, f := range s.repo.Files {
		dir := path.Dir(f)
		holder := path.Base(dir)
		if (holder != "bin" && holder != "scripts" && holder != "tools") || imports.IsForeign(f) {
			continue
		}
		ext := path.Ext(f)
		if ext != "" && ext != ".sh" && ext != ".bash" {
			continue
		}
		text, ok := s.read(f)
		if !ok || (ext == "" && !strings.HasPrefix(text, "#!")) || !strings.Contains(firstLine(text)+ext, "sh") {
			continue
		}
		home, known := s.within(path.Join(path.Dir(dir), "x"))
		if !known {
			home = "."
		}
		rel := f
		if home != "." {
			rel = strings.TrimPrefix(f, home+"/")
		}
		shell := "sh"
		if strings.Contains(firstLine(text)+ext, "bash") {
			shell = "bash"
		}
		p := s.project(home, "shell")
		p.add(&Task{
			Name: plainName(
				strings.TrimSuffix(path.Base(f), ext),
			), Run: shell + " " + shellWord(rel), From: f, Script: text, Help: described(text),
		})
	}
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// described returns the first comment line of a script.
func described(text string) string {
	for i, line := range strings.Split(text, "\n") {
		if words, ok := strings.CutPrefix(line, "# "); ok {
			return strings.TrimSpace(words)
		}
		if i > 0 && line != "" && !strings.HasPrefix(line, "#") {
			break
		}
	}
	return ""
}

// cargoManifest is the part of a Cargo.toml that is used here
// (https://doc.rust-lang.org/cargo/reference/manifest.html).
type cargoManifest struct {
	Package   struct{ Name string }
	Workspace struct{ Members []string }
	Deps      map[string]any `toml:"dependencies"`
	DevDeps   map[string]any `toml:"dev-dependencies"`
	BuildDeps map[string]any `toml:"build-dependencies"`
}

func (s *surveyor) cargo() {
	mans := map[string]cargoManifest{}
	for _, f := range s.named("Cargo.toml") {
		text, _ := s.read(f)
		var m cargoManifest
		if err := toml.Unmarshal([]byte(text), &m); err != nil {
			s.note(fmt.Sprintf("%s is skipped: %v", f, err))
			continue
		}
		mans[path.Dir(f)] = m
	}
	for _, dir := range sortedKeys(mans) {
		if mans[dir].Package.Name != "" {
			s.crate(dir, mans)
		}
	}
	for _, dir := range sortedKeys(mans) {
		if p := s.projects[dir]; p != nil {
			p.needCrates(dir, mans[dir])
		}
	}
}

// crate declares the project of a crate.
func (s *surveyor) crate(dir string, mans map[string]cargoManifest) {
	p := s.project(dir, "cargo")
	p.Stem = "cargo-crate"
	reads := []string{"!target/**"}
	for _, f := range s.workspaceFiles(dir, mans) {
		reads = append(reads, "repo:"+f)
	}
	probe := s.probe("cargo", "cargo --version && rustc --version")
	for _, t := range []Task{
		{Name: "build", Run: "cargo build", Help: "compile the crate", WritesWhy: "compiled crates stay in Cargo's own directory"},
		{Name: "test", Run: "cargo test", Help: "run the tests", WritesWhy: "a check writes nothing"},
	} {
		t.From, t.Script = path.Join(dir, "Cargo.toml"), t.Run
		t.Writes, t.Reads, t.Probes = []string{}, slices.Clone(reads), []string{probe}
		p.add(&t)
	}
}

// workspaceFiles returns the files of the workspaces that a crate belongs to
// and that affect how it is built, sorted.
func (s *surveyor) workspaceFiles(dir string, mans map[string]cargoManifest) []string {
	var out []string
	for top, w := range mans {
		member := slices.ContainsFunc(w.Workspace.Members, func(pat string) bool {
			ok, _ := doublestar.Match(path.Join(top, pat), dir)
			return ok
		})
		if !member || top == dir {
			continue
		}
		for _, name := range []string{"Cargo.toml", "Cargo.lock", "rust-toolchain.toml", ".cargo/config.toml"} {
			if f := path.Join(top, name); s.files[f] {
				out = append(out, f)
			}
		}
	}
	slices.Sort(out)
	return out
}

// needCrates declares the needs that a manifest names by a path.
func (p *Project) needCrates(dir string, m cargoManifest) {
	for _, deps := range []map[string]any{m.Deps, m.DevDeps, m.BuildDeps} {
		for _, name := range sortedKeys(deps) {
			at, _ := deps[name].(map[string]any)
			if rel, ok := at["path"].(string); ok {
				p.need(path.Join(dir, rel), fmt.Sprintf("%s in %s", name, path.Join(dir, "Cargo.toml")))
			}
		}
	}
}

// pyManifest is the part of a pyproject.toml that is used here
// (https://packaging.python.org/en/latest/specifications/pyproject-toml/).
type pyManifest struct {
	Project struct {
		Name         string
		Dependencies []string
		Optional     map[string][]string `toml:"optional-dependencies"`
	}
	Build map[string]any `toml:"build-system"`
	Tool  map[string]any
}

var pyName = regexp.MustCompile(`^[A-Za-z0-9._-]+`)

func pyNormal(name string) string {
	return regexp.MustCompile(`[-_.]+`).ReplaceAllString(strings.ToLower(name), "-")
}

func (s *surveyor) python() {
	mans, byName := map[string]pyManifest{}, map[string]string{}
	for _, f := range s.named("pyproject.toml") {
		text, _ := s.read(f)
		var m pyManifest
		if err := toml.Unmarshal([]byte(text), &m); err != nil {
			s.note(fmt.Sprintf("%s is skipped: %v", f, err))
			continue
		}
		mans[path.Dir(f)] = m
		byName[pyNormal(m.Project.Name)] = path.Dir(f)
	}
	for _, dir := range sortedKeys(mans) {
		m := mans[dir]
		p := s.project(dir, "python")
		p.Stem = "python-package"
		probe := s.probe("python", "python3 --version")
		from := path.Join(dir, "pyproject.toml")
		_, configured := m.Tool["pytest"]
		if configured || s.holdsFiles(path.Join(dir, "tests")) || s.holdsFiles(path.Join(dir, "test")) {
			run := "python3 -m unittest discover"
			if configured {
				run = "python3 -m pytest"
			}
			p.add(&Task{Name: "test", Run: run, From: from, Help: "run the tests", Script: run, Probes: []string{probe}})
		}
		for _, list := range append([][]string{m.Project.Dependencies}, values(m.Project.Optional)...) {
			for _, dep := range list {
				if to, ok := byName[pyNormal(pyName.FindString(dep))]; ok {
					p.need(to, fmt.Sprintf("%s in %s", dep, from))
				}
			}
		}
	}
}

func values(m map[string][]string) [][]string {
	var out [][]string
	for _, k := range sortedKeys(m) {
		out = append(out, m[k])
	}
	return out
}
