package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/manifest"
	"grayloft.example/grayloft/internal/core/pattern"
)

// pyPackage is what the manifests in a directory say of a Python package.
type pyPackage struct {
	from  string // the manifest that says the most
	name  string // normalised
	needs []string
	tool  string // what runs its tests; empty: what the language has
}

// pyManifest is the part of a pyproject.toml that is used here
// (https://packaging.python.org/en/latest/specifications/pyproject-toml/).
type pyManifest struct {
	Project struct {
		Name         string
		Dependencies []string
		Optional     map[string][]string `toml:"optional-dependencies"`
	}
	Tool map[string]any
}

// The parts of a setup.cfg or setup.py that are used here: the requirements
// (https://setuptools.pypa.io/en/latest/userguide/declarative_config.html). A setup.py is a
// program, of which only what is written literally is found.
var (
	setupList   = pattern.New(`(?m)^(?:install_requires|tests_require)[ \t]*=[ \t]*(.*(?:\n[ \t]+\S.*)*)`)
	setupCall   = pattern.New(`\b(?:install_requires|tests_require)\s*=\s*\[([^\]]*)\]`)
	setupQuoted = pattern.New(`["']([^"']+)["']`)
)

// pySettings are the files that what runs tests looks for in the directories around a package.
var pySettings = []string{"conftest.py", "pyproject.toml", "pytest.ini", "setup.cfg", "tox.ini"}

// pyLock matches files that say what is to be installed. What is installed follows them, and so does the
// selection of tasks by changed files.
var pyLock = pattern.New(
	`^((uv|poetry|pdm|Pipfile)\.lock|Pipfile|pylock(\.[a-z0-9-]+)?\.toml|(requirements|constraints)[\w.-]*\.(txt|in))$`,
)

func (s *surveyor) python() {
	all := map[string]*pyPackage{}
	of := func(file string) *pyPackage {
		p := all[path.Dir(file)]
		if p == nil {
			p = &pyPackage{from: file}
			all[path.Dir(file)] = p
		}
		return p
	}
	for _, f := range s.named("pyproject.toml") {
		text, _ := s.read(f)
		var m pyManifest
		if err := toml.Unmarshal([]byte(text), &m); err != nil {
			s.note(fmt.Sprintf("%s is skipped: %v", f, err))
			continue
		}
		of(f).readProject(m)
	}
	for _, name := range []string{"setup.cfg", "setup.py"} {
		for _, f := range s.named(name) {
			if text, ok := s.read(f); ok && (name == "setup.py" || strings.Contains(text, "[metadata]")) {
				of(f).readSetup(text)
			}
		}
	}
	byName := map[string]string{}
	for dir, p := range all {
		if p.name != "" {
			byName[p.name] = dir
		}
	}
	if len(all) == 0 {
		return
	}
	own := manifest.PythonModules(s.repo.Files)
	for _, dir := range sortedKeys(all) {
		s.pyPackage(dir, all[dir], byName, own)
	}
}

func (p *pyPackage) readProject(m pyManifest) {
	p.name = manifest.PythonName(m.Project.Name)
	p.needs = append(p.needs, m.Project.Dependencies...)
	for _, key := range sortedKeys(m.Project.Optional) {
		p.needs = append(p.needs, m.Project.Optional[key]...)
	}
	if _, ok := m.Tool["pytest"]; ok {
		p.tool = "pytest"
	}
}

func (p *pyPackage) readSetup(text string) {
	if p.name == "" {
		p.name = manifest.PythonName(manifest.SetupName(text))
	}
	for _, m := range setupList.FindAllStringSubmatch(text, -1) {
		p.needs = append(p.needs, strings.Fields(m[1])...)
	}
	for _, m := range setupCall.FindAllStringSubmatch(text, -1) {
		for _, q := range setupQuoted.FindAllStringSubmatch(m[1], -1) {
			p.needs = append(p.needs, q[1])
		}
	}
	if strings.Contains(text, "[tool:pytest]") {
		p.tool = "pytest"
	}
}

// pyPackage declares the project of a package.
func (s *surveyor) pyPackage(dir string, m *pyPackage, byName map[string]string, own map[string]bool) {
	p := s.project(dir, "python")
	p.Stem = "python-package"
	if s.usesPytest(dir) {
		m.tool = "pytest"
	}
	for _, tests := range []string{"tests", "test"} {
		if !s.holdsFiles(path.Join(dir, tests)) && m.tool == "" {
			continue
		}
		run := "python3 -m unittest discover"
		switch {
		case m.tool != "":
			run = "python3 -m " + m.tool
		case !s.files[path.Join(dir, tests, "__init__.py")]:
			run += " -s " + tests // it is no package, which would be found by itself
		}
		probes := s.pyProbes(dir, m.tool != "", own)
		p.add(&Task{
			Name: "test", Run: run, From: m.from, Help: "run the tests", Script: run, Probes: probes,
			Reads: s.above(dir, func(f string) bool {
				return slices.Contains(pySettings, path.Base(f)) || len(probes) > 1 && pyLock.MatchString(path.Base(f))
			}),
		})
		break
	}
	for _, dep := range m.needs {
		name, _ := manifest.Requirement(dep)
		if to, ok := byName[name]; ok {
			p.need(to, fmt.Sprintf("%s in %s", dep, m.from))
		}
	}
}

// usesPytest tells whether pytest runs a package's tests: settings of it or of a directory around it name
// it, or a test imports it, or is a function, of which unittest finds none.
func (s *surveyor) usesPytest(dir string) bool {
	for d := dir; ; d = path.Dir(d) {
		if slices.ContainsFunc(s.inDirectory(d), s.namesPytest) {
			return true
		}
		if d == "." {
			break
		}
	}
	return slices.ContainsFunc(s.below(dir), func(f string) bool {
		base := path.Base(f)
		if base == "conftest.py" || !strings.HasPrefix(base, "test_") || !strings.HasSuffix(base, ".py") {
			return base == "conftest.py"
		}
		text, _ := s.read(f)
		return testFunction.MatchString(text) || slices.ContainsFunc(s.repo.reader().Of(f).Imports, func(x imports.Import) bool {
			top, _, _ := strings.Cut(x.Spec, ".")
			return top == "pytest"
		})
	})
}

var testFunction = pattern.New(`(?m)^(async )?def test_`)

// namesPytest tells whether a file beside tests is there for pytest, or names it.
func (s *surveyor) namesPytest(f string) bool {
	base := path.Base(f)
	if base == "pytest.ini" || base == "conftest.py" {
		return true
	}
	text, _ := s.read(f)
	return (slices.Contains(pySettings, base) || strings.HasPrefix(base, "requirements")) && strings.Contains(text, "pytest")
}

// pyProbes returns the probes of what runs a package's tests: the interpreter and, if the package
// imports modules of others, all packages that are installed. No file tells that these are the same.
func (s *surveyor) pyProbes(dir string, withTool bool, own map[string]bool) []string {
	out := []string{s.probe("python", "python3 --version")}
	if withTool || s.importsOthers(dir, own) {
		out = append(out, s.addProbe(Probe{Name: "python-packages", Run: pyInstalled, Always: true}))
	}
	return out
}

// importsOthers tells whether a Python file below a directory imports what neither the interpreter
// nor the repository has.
func (s *surveyor) importsOthers(dir string, own map[string]bool) bool {
	return slices.ContainsFunc(s.below(dir), func(f string) bool {
		if !strings.HasSuffix(f, ".py") || path.Base(f) == "setup.py" {
			return false
		}
		return slices.ContainsFunc(s.repo.reader().Of(f).Imports, func(x imports.Import) bool {
			top, _, _ := strings.Cut(x.Spec, ".")
			return !manifest.IsPythonStandard(top) && !own[top]
		})
	})
}

// pyInstalled lists the installed packages with their versions.
const pyInstalled = `python3 -c 'import importlib.metadata as m; ` +
	`print("\n".join(sorted({"%s %s" % (d.metadata["Name"], d.version) for d in m.distributions()})))'`
