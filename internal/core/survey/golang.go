package survey

import (
	"fmt"
	"go/build"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"grayloft.example/grayloft/internal/core/imports"
)

// module is a Go module of the repository.
type module struct {
	dir, path string
	packages  map[string]*goPackage // by directory, from the root
	vendored  bool
}

type goPackage struct {
	dir     string
	main    bool
	files   []string
	imports map[string]string // import path → one file that imports it
}

// goModules finds modules and the imports between them. A module is one
// project; if it is split, each of its directories is one.
func (s *surveyor) goModules(c Choices) {
	mods := s.findModules()
	if len(mods) == 0 {
		return
	}
	probe := s.probe("go", "go version")
	groups := map[*module]map[string]string{} // package directory → project directory
	for _, m := range mods {
		groups[m] = m.group(c.Split[m.dir])
	}
	tools := goTools{probe, s.caches(mods)}
	for _, m := range mods {
		byProject := invert(groups[m])
		for _, dir := range sortedKeys(byProject) {
			s.goProject(m, dir, byProject[dir], tools)
		}
	}
	for _, m := range mods {
		for _, pkg := range sortedPackages(m) {
			for _, imp := range sortedKeys(pkg.imports) {
				if dir, ok := target(mods, groups, imp); ok {
					s.projects[groups[m][pkg.dir]].need(dir, fmt.Sprintf("%s imports %s", pkg.imports[imp], imp))
				}
			}
		}
	}
}

func invert(m map[string]string) map[string][]string {
	out := map[string][]string{}
	for _, k := range sortedKeys(m) {
		out[m[k]] = append(out[m[k]], k)
	}
	return out
}

func sortedPackages(m *module) []*goPackage {
	var out []*goPackage
	for _, dir := range sortedKeys(m.packages) {
		out = append(out, m.packages[dir])
	}
	return out
}

func (s *surveyor) findModules() []*module {
	var mods []*module
	for _, f := range s.named("go.mod") {
		text, _ := s.read(f)
		name := modfile.ModulePath([]byte(text))
		if name == "" {
			s.note(f + " is skipped: it has no module line")
			continue
		}
		dir := path.Dir(f)
		mods = append(
			mods,
			&module{
				dir:      dir,
				path:     name,
				packages: map[string]*goPackage{},
				vendored: s.files[path.Join(dir, "vendor/modules.txt")],
			},
		)
	}
	byDir := map[string]*module{}
	for _, m := range mods {
		byDir[m.dir] = m
	}
	for _, f := range s.repo.Files {
		if path.Ext(f) == ".go" && !imports.IsForeign(f) {
			if m := innermost(byDir, f); m != nil {
				s.goFile(m, f)
			}
		}
	}
	return slices.DeleteFunc(mods, func(m *module) bool { return len(m.packages) == 0 })
}

// innermost returns the module around a file.
func innermost(byDir map[string]*module, f string) *module {
	for dir := path.Dir(f); ; dir = path.Dir(dir) {
		if m := byDir[dir]; m != nil || dir == "." {
			return m
		}
	}
}

func (s *surveyor) goFile(m *module, f string) {
	file := s.repo.reader().Of(f)
	if file.Broken {
		s.note(fmt.Sprintf("%s is skipped: it cannot be parsed", f))
		return
	}
	dir := path.Dir(f)
	p := m.packages[dir]
	if p == nil {
		p = &goPackage{dir: dir, imports: map[string]string{}}
		m.packages[dir] = p
	}
	p.files = append(p.files, f)
	p.main = p.main || file.Package == "main"
	for _, imp := range file.Imports {
		if p.imports[imp.Spec] == "" {
			p.imports[imp.Spec] = f
		}
	}
}

// target returns the project that an import path refers to.
func target(mods []*module, groups map[*module]map[string]string, imp string) (string, bool) {
	for _, m := range mods {
		rest, ok := strings.CutPrefix(imp, m.path)
		if !ok || (rest != "" && rest[0] != '/') {
			continue
		}
		if dir, ok := groups[m][path.Join(m.dir, rest)]; ok {
			return dir, true
		}
	}
	return "", false
}

// containers are directories that contain projects and are not projects
// themselves.
var containers = set("internal", "pkg", "cmd", "src", "lib", "libs", "apps", "services", "tools", "packages", "modules")

// group assigns the packages of a module to projects. In a split module each
// top-level directory (or directory below a container) is a project;
// directories that import each other in a cycle are merged, with everything
// between them.
func (m *module) group(split bool) map[string]string {
	out := map[string]string{}
	for dir := range m.packages {
		out[dir] = m.dir
		if split {
			out[dir] = m.top(dir)
		}
	}
	for split {
		circle := m.circle(out)
		if circle == nil {
			break
		}
		into := commonDir(circle)
		for dir, g := range out {
			if into == "." || g == into || strings.HasPrefix(g, into+"/") || slices.Contains(circle, g) {
				out[dir] = into
			}
		}
	}
	return out
}

func (m *module) top(dir string) string {
	rel := strings.TrimPrefix(strings.TrimPrefix(dir, m.dir), "/")
	if m.dir == "." {
		rel = dir
	}
	if rel == "" || rel == "." {
		return m.dir
	}
	segs := strings.Split(rel, "/")
	if containers[segs[0]] && len(segs) > 1 {
		return path.Join(m.dir, segs[0], segs[1])
	}
	return path.Join(m.dir, segs[0])
}

// circle returns groups that import each other in a cycle, or nil.
func (m *module) circle(groups map[string]string) []string {
	edges := map[string]map[string]bool{}
	for dir, p := range m.packages {
		g := groups[dir]
		if edges[g] == nil {
			edges[g] = map[string]bool{}
		}
		for imp := range p.imports {
			if to, ok := target([]*module{m}, map[*module]map[string]string{m: groups}, imp); ok && to != g {
				edges[g][to] = true
			}
		}
	}
	state := map[string]int{}
	var stack, found []string
	var walk func(g string)
	walk = func(g string) {
		state[g] = 1
		stack = append(stack, g)
		for _, to := range sortedKeys(edges[g]) {
			switch {
			case found != nil:
			case state[to] == 1:
				found = slices.Clone(stack[slices.Index(stack, to):])
			case state[to] == 0:
				walk(to)
			}
		}
		stack = stack[:len(stack)-1]
		state[g] = 2
	}
	for _, g := range sortedKeys(edges) {
		if state[g] == 0 && found == nil {
			walk(g)
		}
	}
	return found
}

func commonDir(dirs []string) string {
	common := strings.Split(dirs[0], "/")
	for _, d := range dirs[1:] {
		segs := strings.Split(d, "/")
		n := 0
		for n < min(len(common), len(segs)) && common[n] == segs[n] {
			n++
		}
		common = common[:n]
	}
	if len(common) == 0 {
		return "."
	}
	return strings.Join(common, "/")
}

// Splittable returns the Go modules with enough packages to be worth splitting,
// with the projects that splitting would create.
func Splittable(r *Repo) map[string][]string {
	s := &surveyor{repo: r, files: map[string]bool{}, projects: map[string]*Project{}, survey: &Survey{}}
	for _, f := range r.Files {
		s.files[f] = true
	}
	out := map[string][]string{}
	for _, m := range s.findModules() {
		dirs := sortedKeys(invert(m.group(true)))
		if len(m.packages) >= 6 && len(dirs) >= 4 {
			out[m.dir] = dirs
		}
	}
	return out
}

// replacing returns the directories that take the place of modules, and belong to no
// module of the repository that is a project, such as copies of others.
func (s *surveyor) replacing(m *module) (out []string) {
	file := path.Join(m.dir, "go.mod")
	text, _ := s.read(file)
	mod, err := modfile.Parse(file, []byte(text), nil)
	if err != nil {
		return nil
	}
	for _, r := range mod.Replace {
		dir := path.Join(m.dir, r.New.Path)
		if modfile.IsDirectoryPath(r.New.Path) && imports.IsForeign(dir+"/x") && s.holdsFiles(dir) {
			out = append(out, dir)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// goTools are what all tasks of the go command use.
type goTools struct {
	probe  string
	caches []string
}

func (s *surveyor) goProject(m *module, dir string, packages []string, tools goTools) {
	p := s.project(dir, "go")
	p.Stem = "go-package"
	p.Offers = []string{"**", "!**/*_test.go", "!**/testdata/**", "!**/*.md"}
	p.built = func() bool { return s.isBuilt(m, packages, false) || s.isBuilt(m, packages, true) }
	if s.relationsOnly {
		return
	}
	var shared []string
	if dir != m.dir {
		shared = s.existing(m.dir, "go.mod", "go.sum")
	}
	if m.vendored && dir != m.dir {
		shared = append(shared, "repo:"+path.Join(m.dir, "vendor"))
	}
	for _, dir := range s.replacing(m) {
		shared = append(shared, "repo:"+dir)
	}
	for _, f := range s.workspaceReads(m) {
		if !slices.Contains(shared, f) {
			shared = append(shared, f)
		}
	}
	if !s.isBuilt(m, packages, false) {
		s.note(
			fmt.Sprintf(
				"%s has no build and no vet: its build constraints leave out all of its files on %s",
				here(dir),
				platform(),
			),
		)
		return
	}
	scope := "./..."
	if dir == m.dir && s.split(m, packages) {
		scope = "." // its other directories are separate projects
	}
	from := path.Join(m.dir, "go.mod")
	mains := 0
	for _, pkg := range packages {
		if m.packages[pkg].main {
			mains++
		}
	}
	build := "go build " + scope
	if mains == 1 && len(packages) == 1 {
		build = "go build -o /dev/null " + scope // a single program would otherwise be written next to its sources
	}
	p.add(&Task{
		Name: "build", Run: build, From: from, Help: "compile everything", Writes: []string{},
		WritesWhy: "compiled packages stay in Go's own cache",
		Reads: append(
			[]string{"!**/*_test.go", "!**/testdata/**", "!**/*.md"},
			shared...), Probes: []string{tools.probe}, Scratch: tools.caches, Script: "go build",
	})
	if s.isBuilt(m, packages, true) {
		p.add(&Task{
			Name: "test", Run: "go test " + scope, From: from, Help: "run the tests", Writes: []string{},
			WritesWhy: "a check writes nothing",
			Reads:     shared, Probes: []string{tools.probe}, Scratch: tools.caches, Script: "go test",
		})
	}
	p.add(&Task{
		Name: "vet", Run: "go vet " + scope, From: from, Help: "look for common mistakes", Writes: []string{},
		WritesWhy: "a check writes nothing",
		Reads:     append([]string{"!**/*.md"}, shared...), Probes: []string{tools.probe}, Scratch: tools.caches, Script: "go vet",
	})
}

func (s *surveyor) split(m *module, packages []string) bool { return len(packages) < len(m.packages) }

// isBuilt tells whether the build constraints of some file of packages admit this
// platform, or those of some test of them. Packages with nothing but tests are built if these are.
func (s *surveyor) isBuilt(m *module, packages []string, tests bool) bool {
	c := build.Default
	c.JoinPath = path.Join
	c.OpenFile = func(name string) (io.ReadCloser, error) { return s.repo.FS.Open(name) }
	some := false
	for _, dir := range packages {
		for _, f := range m.packages[dir].files {
			if strings.HasSuffix(f, "_test.go") != tests {
				continue
			}
			some = true
			if ok, err := c.MatchFile(dir, path.Base(f)); ok || err != nil {
				return true
			}
		}
	}
	return !some && !tests && s.isBuilt(m, packages, true)
}

func platform() string { return build.Default.GOOS + "/" + build.Default.GOARCH }

func here(dir string) string {
	if dir == "." {
		return "the root"
	}
	return dir
}
