package survey

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// cargoManifest is the part of a Cargo.toml that is used here
// (https://doc.rust-lang.org/cargo/reference/manifest.html).
type cargoManifest struct {
	Package struct {
		Name, Workspace string
		AutoBins        *bool `toml:"autobins"`
	}
	Bin       []struct{ Name string }
	Workspace *struct {
		Exclude []string
		Deps    map[string]any `toml:"dependencies"`
	}
	Patch  map[string]map[string]any // by source
	Target map[string]cargoDeps      // by platform
	cargoDeps
}

// cargoDeps are the lists of dependencies in a manifest.
type cargoDeps struct {
	Deps      map[string]any `toml:"dependencies"`
	DevDeps   map[string]any `toml:"dev-dependencies"`
	BuildDeps map[string]any `toml:"build-dependencies"`
}

// crates are the manifests of a repository, by their directory.
type crates struct {
	*surveyor
	mans map[string]cargoManifest
}

func (s *surveyor) cargo() {
	c := crates{s, map[string]cargoManifest{}}
	for _, f := range s.named("Cargo.toml") {
		text, _ := s.read(f)
		var m cargoManifest
		if err := toml.Unmarshal([]byte(text), &m); err != nil {
			s.note(fmt.Sprintf("%s is skipped: %v", f, err))
			continue
		}
		c.mans[path.Dir(f)] = m
	}
	for _, dir := range sortedKeys(c.mans) {
		if c.mans[dir].Package.Name != "" {
			c.declare(dir)
		}
	}
	for _, dir := range sortedKeys(c.mans) {
		if p := s.projects[dir]; p != nil {
			c.addNeeds(p)
		}
	}
}

// declare declares the project of a crate.
func (c crates) declare(dir string) {
	p := c.project(dir, "cargo")
	p.Stem = "cargo-crate"
	reads := []string{"!target/**"}
	for _, f := range slices.Concat(c.workspaceFiles(dir), c.settings(dir)) {
		if !slices.Contains(reads, f) {
			reads = append(reads, f)
		}
	}
	probe := c.probe("cargo", "cargo --version && rustc --version")
	build := &Task{Name: "build", Run: "cargo build", Help: "compile the crate", WritesWhy: "compiled crates stay in Cargo's own directory"}
	test := &Task{Name: "test", Run: "cargo test", Help: "run the tests", WritesWhy: "a check writes nothing"}
	for _, t := range []*Task{build, test} {
		t.From, t.Script = path.Join(dir, "Cargo.toml"), t.Run
		t.Writes, t.Reads, t.Probes = []string{}, slices.Clone(reads), []string{probe}
		p.add(t)
	}
	switch programs := c.programs(dir); {
	case len(programs) == 0:
	case c.root(dir) != dir || c.movesTarget(dir):
		build.Sort, build.Why, build.Writes = NeverReusable, "the programs that it makes are in Cargo's directory, outside its project", nil
	default:
		build.WritesWhy = "the programs of the crate"
		for _, name := range programs {
			build.Writes = append(build.Writes, "target/debug/"+name)
		}
	}
}

// root returns the directory of the workspace that a crate belongs to, which has the lock file and
// what is compiled: its own, if there is none
// (https://doc.rust-lang.org/cargo/reference/workspaces.html).
func (c crates) root(dir string) string {
	if at := c.mans[dir].Package.Workspace; at != "" {
		return path.Join(dir, at)
	}
	for top := dir; ; top = path.Dir(top) {
		if w := c.mans[top].Workspace; w != nil {
			isOut := func(x string) bool { return strings.HasPrefix(dir+"/", path.Join(top, x)+"/") }
			if slices.ContainsFunc(w.Exclude, isOut) {
				return dir
			}
			return top
		}
		if top == "." || top == "/" {
			return dir
		}
	}
}

// workspaceFiles returns, as reads, the files of the workspace around a crate that affect how it is
// built.
func (c crates) workspaceFiles(dir string) (out []string) {
	top := c.root(dir)
	for _, name := range []string{".cargo/config.toml", "Cargo.lock", "Cargo.toml", "rust-toolchain.toml"} {
		if f := path.Join(top, name); top != dir && c.files[f] {
			out = append(out, "repo:"+f)
		}
	}
	return out
}

// settings returns, as reads, the files around a crate by which its build may be configured
// (https://doc.rust-lang.org/cargo/reference/config.html,
// https://rust-lang.github.io/rustup/overrides.html).
func (c crates) settings(dir string) []string {
	out := c.above(dir, func(f string) bool { return strings.HasPrefix(path.Base(f), "rust-toolchain") })
	for _, f := range c.configs(dir) {
		if path.Dir(path.Dir(f)) != dir {
			out = append(out, "repo:"+f)
		}
	}
	return out
}

// configs returns the configurations of Cargo in the directory of a crate and in those around it.
func (c crates) configs(dir string) (out []string) {
	for ; ; dir = path.Dir(dir) {
		for _, name := range []string{".cargo/config.toml", ".cargo/config"} {
			if f := path.Join(dir, name); c.files[f] {
				out = append(out, f)
			}
		}
		if dir == "." {
			return out
		}
	}
}

// movesTarget tells whether a configuration may say where Cargo puts what it compiles.
func (c crates) movesTarget(dir string) bool {
	return slices.ContainsFunc(c.configs(dir), func(f string) bool {
		text, _ := c.read(f)
		return strings.Contains(text, "target")
	})
}

// programs returns the names of the programs that a crate consists of, sorted
// (https://doc.rust-lang.org/cargo/reference/cargo-targets.html).
func (c crates) programs(dir string) []string {
	m := c.mans[dir]
	out := map[string]bool{}
	for _, b := range m.Bin {
		out[b.Name] = true
	}
	if m.Package.AutoBins == nil || *m.Package.AutoBins {
		if len(m.Bin) == 0 && c.files[path.Join(dir, "src/main.rs")] {
			out[m.Package.Name] = true
		}
		at := path.Join(dir, "src/bin")
		for _, f := range c.below(at) {
			name := strings.TrimPrefix(f, at+"/")
			if rest, ok := strings.CutSuffix(name, "/main.rs"); ok && !strings.Contains(rest, "/") {
				out[rest] = true
			} else if rest, ok := strings.CutSuffix(name, ".rs"); ok && !strings.Contains(rest, "/") {
				out[rest] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(out))
}

// addNeeds adds the crates of the repository that a crate depends on: by a path in its own manifest or
// in that of its workspace, or because the workspace puts them in place of others.
func (c crates) addNeeds(p *Project) {
	m, top := c.mans[p.Dir], c.mans[c.root(p.Dir)]
	lists := []map[string]any{m.Deps, m.DevDeps, m.BuildDeps}
	for _, platform := range sortedKeys(m.Target) {
		l := m.Target[platform]
		lists = append(lists, l.Deps, l.DevDeps, l.BuildDeps)
	}
	for _, deps := range lists {
		for _, name := range sortedKeys(deps) {
			why := fmt.Sprintf("%s in %s", name, path.Join(p.Dir, "Cargo.toml"))
			c.need(p, p.Dir, deps[name], why)
			if entry, _ := deps[name].(map[string]any); entry["workspace"] == true && top.Workspace != nil {
				c.need(p, c.root(p.Dir), top.Workspace.Deps[name], why)
			}
			for _, source := range sortedKeys(top.Patch) {
				c.need(p, c.root(p.Dir), top.Patch[source][name], why)
			}
		}
	}
}

// need adds the crate that an entry of a manifest in a directory names by a path.
func (c crates) need(p *Project, dir string, entry any, why string) {
	if at, ok := entry.(map[string]any); ok {
		if rel, ok := at["path"].(string); ok {
			p.need(path.Join(dir, rel), why)
		}
	}
}
