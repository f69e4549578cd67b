package manifest

import (
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/imports"
)

// PythonModules are the names that Python files among these, and the directories around them, make.
func PythonModules(files []string) map[string]bool {
	out := map[string]bool{}
	for _, f := range files {
		if strings.HasSuffix(f, ".py") || strings.HasSuffix(f, ".pyi") {
			out[strings.TrimSuffix(strings.TrimSuffix(path.Base(f), "i"), ".py")] = true
			for dir := path.Dir(f); dir != "."; dir = path.Dir(dir) {
				out[path.Base(dir)] = true
			}
		}
	}
	return out
}

// IsPythonStandard tells whether a module comes with the interpreter.
func IsPythonStandard(module string) bool {
	top, _, _ := strings.Cut(module, ".")
	return slices.Contains(pythonStandard, top) || strings.HasPrefix(top, "_")
}

// pythonUses returns the packages that a file imports, by the names of their entries
// or, if there is none, by the name of the module. Modules of the standard library and
// of the repository are none.
func (r *Repo) pythonUses(all map[string]*pythonPackage, p *pythonPackage, local map[string]bool, file string) (out []Use) {
	src := r.Imports.Of(file)
	for _, x := range src.Imports {
		top, _, _ := strings.Cut(x.Spec, ".")
		if IsPythonStandard(top) {
			continue
		}
		name := r.pythonPackageOf(p, x.Spec)
		if name == "" && (local[top] || isOwn(all, p, top) || r.isInstalledAbove(all, p, x.Spec)) {
			continue
		}
		if name == "" {
			name = top
			if known := pythonProvides[top]; known != "" {
				name, _, _ = strings.Cut(known, " ")
			}
		}
		out = append(out, Use{
			Name: name, File: file, Line: x.Line, Column: x.Column, Types: x.Types,
			Test: pythonTest.MatchString(
				strings.TrimPrefix(file, p.dir+"/"),
			), Certain: !src.Generated && !x.Optional && !x.Types && path.Base(file) != "setup.py",
		})
	}
	return out
}

// pythonPackageOf returns the declared package that provides a module; empty if there
// is none.
func (r *Repo) pythonPackageOf(p *pythonPackage, module string) string {
	provider, known := p.providers[module]
	if !known {
		if p.providers == nil {
			p.providers = map[string]string{}
		}
		provider = r.findProvider(p, module)
		p.providers[module] = provider
	}
	return provider
}

func (r *Repo) findProvider(p *pythonPackage, module string) string {
	top, _, _ := strings.Cut(module, ".")
	top = PythonName(top)
	for _, e := range p.entries {
		if e.Name == top || r.providesModule(e.Name, module) {
			return e.Name
		}
	}
	whole := PythonName(module) + "-"
	for _, e := range p.entries { // such as azure-storage for azure.storage, and railroad-diagrams for railroad
		if strings.HasPrefix(whole, e.Name+"-") || strings.HasPrefix(e.Name, top+"-") || withoutPython(e.Name) == top {
			return e.Name
		}
	}
	return ""
}

// withoutPython returns the name of a package without the part that only says that it is for
// Python, as its module usually does.
func withoutPython(name string) string {
	for _, before := range []string{"python-", "py-"} {
		name = strings.TrimPrefix(name, before)
	}
	return strings.TrimSuffix(name, "-python")
}

// isOwn tells whether a package, or one around it, builds the module: it may be in another language.
func isOwn(all map[string]*pythonPackage, p *pythonPackage, module string) bool {
	for dir := p.dir; ; dir = path.Dir(dir) {
		if at := all[dir]; at != nil && at.name != "" && withoutPython(at.name) == PythonName(module) {
			return true
		}
		if dir == "." {
			return false
		}
	}
}

// isInstalledAbove tells whether a directory around a package declares what provides a
// module: one environment serves all below it.
func (r *Repo) isInstalledAbove(all map[string]*pythonPackage, p *pythonPackage, module string) bool {
	for dir := p.dir; dir != "."; {
		dir = path.Dir(dir)
		if above := all[dir]; above != nil && r.pythonPackageOf(above, module) != "" {
			return true
		}
	}
	return false
}

// providesModule tells whether a package is known to provide a module, or one around
// it.
func (r *Repo) providesModule(pkg, module string) bool {
	for name, modules := range r.Provides["python"] {
		if PythonName(name) == pkg &&
			slices.ContainsFunc(modules, func(m string) bool { return m == module || strings.HasPrefix(module, m+".") }) {
			return true
		}
	}
	top, _, _ := strings.Cut(module, ".")
	return slices.Contains(strings.Fields(pythonProvides[top]), pkg)
}

// pythonMentions returns whether a package is used without an import: for development,
// by a mention in its sources, or as a word of another file of its directory.
func (r *Repo) pythonMentions(p *pythonPackage, sources []string) func(string) bool {
	mentioned := map[string]bool{}
	for _, f := range sources {
		for _, m := range r.Imports.Of(f).Mentions {
			if name := r.pythonPackageOf(p, m); name != "" {
				mentioned[name] = true
			}
		}
	}
	var worded map[string]bool
	return func(name string) bool {
		if mentioned[name] || p.open || hasWord(r.Commands, name) {
			return true
		}
		i := slices.IndexFunc(p.entries, func(e Entry) bool { return e.Name == name })
		if i >= 0 && p.entries[i].Scope == Development {
			return true // tools find their plugins by themselves
		}
		if worded == nil {
			worded = r.wordsBeside(p)
		}
		return worded[name]
	}
}

// wordsBeside returns the packages that are words of files of the directory that are no sources.
func (r *Repo) wordsBeside(p *pythonPackage) map[string]bool {
	out := map[string]bool{}
	for _, f := range r.Files {
		if !isBelow(p.dir, f) || imports.IsSource(f) || requirementsFile.MatchString(f) ||
			path.Base(f) == "pyproject.toml" || strings.Contains(path.Base(f), "lock") {
			continue
		}
		text := strings.ToLower(r.fresh(f))
		for _, e := range p.entries {
			out[e.Name] = out[e.Name] || hasWord(text, e.Name)
		}
	}
	return out
}
