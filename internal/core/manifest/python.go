package manifest

import (
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/edit"
	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pattern"
)

// python reads pyproject.toml (https://packaging.python.org/en/latest/specifications/pyproject-toml/,
// https://packaging.python.org/en/latest/specifications/dependency-groups/) and
// requirements files (https://pip.pypa.io/en/stable/reference/requirements-file-format/).
type python struct{}

func (python) Name() string { return "python" }

// requirementsFile matches the names of requirements files; those for development
// have a word for it.
var (
	requirementsFile = pattern.New(
		`(^|/)(requirements([-_.][\w.-]+)?|[\w.-]+[-_.]requirements)\.txt$|(^|/)requirements/[\w.-]+\.txt$`,
	)
	forDevelopment = pattern.New(
		`(?i)(^|[-_./])(dev|develop|development|test|tests|testing|lint|docs?|ci|typing)([-_.]|$)`,
	)
	pythonTest = pattern.New(
		`(^|/)(tests?|testing|docs?|examples?|benchmarks?)/|(^|/)(test_[^/]*|[^/]*_test|conftest|setup|noxfile)\.py$`,
	)
)

var setupName = pattern.New(`(?m)(?:^|[(,])\s*name\s*=\s*["']?([\w.-]+)`)

// SetupName returns the name of the package in the text of a setup.cfg or setup.py, empty if it is
// not written there: https://setuptools.pypa.io/en/latest/userguide/declarative_config.html.
func SetupName(text string) string {
	if m := setupName.FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return ""
}

// pythonPackage is a directory with manifests.
type pythonPackage struct {
	dir       string
	file      string
	entries   []Entry
	misplaced []Misplaced
	open      bool   // some of its dependencies are declared where they are not read
	name      string // of what it builds, normalised; empty if it is not known

	providers map[string]string // of the modules that were asked for
}

func (python) Manifests(r *Repo) (out []Manifest) {
	packages := pythonPackages(r)
	dirs := map[string]bool{}
	for dir := range packages {
		dirs[dir] = true
	}
	isPython := func(f string) bool { return strings.HasSuffix(f, ".py") || strings.HasSuffix(f, ".pyi") }
	files := r.governed(dirs, isPython)
	local := PythonModules(r.Files)
	for _, dir := range sortedKeys(packages) {
		p := packages[dir]
		m := Manifest{
			File: p.file, Entries: p.entries, Misplaced: p.misplaced,
			Words: Words{Shipped: "the dependencies", Development: "a group for development", Add: "add %s to the dependencies"},
		}
		m.mentioned = r.pythonMentions(p, files[dir])
		for _, f := range files[dir] {
			if !p.open {
				m.Uses = append(m.Uses, r.pythonUses(packages, p, local, f)...)
			}
		}
		out = append(out, m)
	}
	return out
}

// pythonPackages returns the directories with manifests that declare dependencies.
func pythonPackages(r *Repo) map[string]*pythonPackage {
	out := map[string]*pythonPackage{} // by directory
	of := func(dir, file string) *pythonPackage {
		if out[dir] == nil {
			setup := r.fresh(path.Join(dir, "setup.py")) + r.fresh(path.Join(dir, "setup.cfg"))
			out[dir] = &pythonPackage{dir: dir, file: file, open: strings.Contains(setup, "install_requires")}
			out[dir].name = PythonName(SetupName(setup))
		}
		return out[dir]
	}
	for _, f := range r.named("pyproject.toml") {
		if p, ok := readPyproject(f, r.text(f)); ok {
			out[path.Dir(f)] = p
		}
	}
	for _, f := range r.Files {
		if !strings.HasSuffix(f, ".txt") || imports.IsForeign(f) || !requirementsFile.MatchString(f) {
			continue
		}
		dir := path.Dir(f)
		if path.Base(dir) == "requirements" {
			dir = path.Dir(dir)
		}
		own := out[dir] != nil && path.Base(out[dir].file) == "pyproject.toml"
		of(dir, f).readRequirements(f, r.text(f), own)
	}
	return out
}

// readPyproject reads the dependencies of a pyproject.toml that names them in the
// standard tables; not ok if it does not.
func readPyproject(file, text string) (*pythonPackage, bool) {
	values, ok := tomlValues(text)
	if !ok {
		return nil, false
	}
	p := &pythonPackage{dir: path.Dir(file), file: file}
	found, isNamed, isDynamic := false, false, false
	var lists []tomlList
	for _, v := range values {
		name := strings.Join(v.path, ".")
		scope := Other // what is optional, or builds it
		switch {
		case name == "project.name":
			isNamed, p.name = true, PythonName(v.text)
			continue
		case name == "project.dynamic":
			isDynamic = slices.ContainsFunc(v.items, func(it tomlValue) bool { return strings.Contains(it.text, "dependencies") })
			continue
		case name == "project.dependencies":
			scope = Shipped
		case strings.HasPrefix(name, "dependency-groups."):
			scope = Development
		case !strings.HasPrefix(name, "project.optional-dependencies.") && name != "build-system.requires":
			continue
		}
		found = true
		lists = append(lists, tomlList{v, scope})
	}
	for _, l := range lists {
		p.addList(file, text, l, lists)
	}
	p.open = !isNamed || isDynamic
	return p, found
}

// tomlList is an array of requirements.
type tomlList struct {
	tomlValue
	scope Scope
}

func (l tomlList) ranges() (out [][2]int) {
	for _, it := range l.items {
		out = append(out, [2]int{it.from, it.to})
	}
	return out
}

func (p *pythonPackage) addList(file, text string, l tomlList, all []tomlList) {
	var order []listed
	for i, it := range l.items {
		name, version := Requirement(it.text)
		if name == "" {
			continue // such as a group that another one includes
		}
		e := Entry{File: file, Name: name, Scope: l.scope, Version: version, Remove: edit.Without(file, text, l.ranges(), i)}
		e.Line, e.Column = edit.Place(text, it.from)
		e.setVersion = pythonVersion(file, text, it.from, it.to)
		e.Move = p.moved(file, text, e, text[it.from:it.to], all)
		p.entries = append(p.entries, e)
		from, to := lines(text, it.from, it.to)
		isAlone := strings.TrimSpace(text[from:it.from]) == ""
		hasComma := strings.HasPrefix(strings.TrimLeft(text[it.to:], " \t"), ",")
		order = append(order, listed{name: name, from: from, to: to, fixed: !isAlone || !hasComma})
	}
	p.misplaced = append(p.misplaced, misplaced(file, text, order)...)
}

// moved returns the edits that put an entry into the only list of the other scope.
func (p *pythonPackage) moved(file, text string, e Entry, written string, all []tomlList) []edit.Edit {
	target := map[Scope]Scope{Shipped: Development, Development: Shipped}
	var to []tomlList
	for _, l := range all {
		if other, ok := target[e.Scope]; ok && l.scope == other {
			to = append(to, l)
		}
	}
	if len(to) != 1 || len(to[0].items) == 0 {
		return nil
	}
	return append(slices.Clone(e.Remove), edit.InOrder(file, text, to[0].ranges(), written)...)
}

// readRequirements reads the lines of a requirements file. Files that a program wrote
// list what packages need of each other, too: their entries tell nothing about use, and
// neither do those beside a pyproject.toml.
func (p *pythonPackage) readRequirements(file, text string, besideProject bool) {
	scope := Shipped
	switch {
	case besideProject || strings.Contains(text, "# via ") || strings.Contains(text, "--hash="):
		scope = Other
	case forDevelopment.MatchString(strings.TrimSuffix(strings.TrimPrefix(file, p.dir+"/"), ".txt")),
		forDevelopment.MatchString(path.Base(p.dir)):
		scope = Development
	}
	var order []listed
	for at := 0; at < len(text); {
		start, end := lines(text, at, at)
		at = end
		line := text[start:end]
		name, version := Requirement(line)
		if name == "" {
			continue
		}
		indent := len(line) - len(strings.TrimLeft(line, " \t"))
		e := Entry{File: file, Name: name, Scope: scope, Version: version}
		e.Line, e.Column = edit.Place(text, start+indent)
		e.Remove = []edit.Edit{edit.Between(file, text, start, end, "")}
		e.setVersion = pythonVersion(file, text, start, end)
		p.entries = append(p.entries, e)
		order = append(
			order,
			listed{name: name, from: start, to: end, fixed: strings.HasSuffix(strings.TrimRight(line, "\r\n"), `\`)},
		)
	}
	if scope != Other {
		p.misplaced = append(p.misplaced, misplaced(file, text, order)...)
	}
}

var (
	requirementLine = pattern.New(
		`^\s*([A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?)\s*(?:\[[^\]]*\])?\s*\(?((?:[<>=!~]=?=?\s*[^;#,\s)]+\s*,?\s*)*)`,
	)
	exactVersion  = pattern.New(`(==|~=|>=)\s*([0-9][^;#,\s)"']*)`)
	nameSeparator = pattern.New(`[-_.]+`)
)

// Requirement returns the normalised name and the version of a requirement
// (https://packaging.python.org/en/latest/specifications/dependency-specifiers/); no
// name if it is something else. The version is that which it begins at.
func Requirement(text string) (name, version string) {
	m := requirementLine.FindStringSubmatch(text)
	rest := ""
	if m != nil {
		rest = strings.TrimLeft(text[len(m[0]):], " \t)")
	}
	if m == nil || rest != "" && !strings.ContainsAny(rest[:1], ";#@\\\r\n") && !strings.HasPrefix(rest, "--hash") {
		return "", ""
	}
	if v := exactVersion.FindStringSubmatch(m[2]); v != nil {
		version = v[2]
	}
	return PythonName(m[1]), version
}

// PythonName returns a name in the form in which names of packages are compared:
// https://packaging.python.org/en/latest/specifications/name-normalization/.
func PythonName(name string) string {
	if strings.ContainsAny(name, "_.") || strings.Contains(name, "--") {
		name = nameSeparator.ReplaceAllString(name, "-")
	}
	return strings.ToLower(name)
}

// pythonVersion returns what writes another version into a requirement.
func pythonVersion(file, text string, from, to int) func(string) []edit.Edit {
	return func(version string) []edit.Edit {
		m := exactVersion.FindStringSubmatchIndex(text[from:to])
		if m == nil {
			return nil
		}
		return []edit.Edit{edit.Between(file, text, from+m[4], from+m[5], version)}
	}
}
