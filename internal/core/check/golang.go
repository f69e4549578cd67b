package check

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"grayloft.example/grayloft/internal/core/adopt"
)

// goModule is a go.mod with the directory that it governs.
type goModule struct {
	*modfile.File
	dir, file string
}

// goManifests reads the go.mod files of the repository, and what the Go files below
// them import: https://go.dev/ref/mod. Build constraints do not matter.
func goManifests(in *inspection) (out []manifest) {
	var mods []goModule
	for _, f := range in.Files {
		if path.Base(f) == "go.mod" && !adopt.Foreign(f) {
			if m, err := modfile.Parse(f, []byte(in.text(f)), nil); err == nil && m.Module != nil {
				mods = append(mods, goModule{m, path.Dir(f), f})
			}
		}
	}
	files := in.governed("go.mod", func(f string) bool { return strings.HasSuffix(f, ".go") })
	for _, mod := range mods {
		m := manifest{
			ecosystem: "go",
			file:      mod.file,
			words:     words{shipped: "require", add: "go get %s"},
			mentioned: in.toolsOf(mod),
		}
		if p := in.Graph.Owner(mod.file); p != nil {
			m.project = p.Name
		}
		for _, r := range mod.Require {
			m.entries = append(m.entries, mod.entry(in, mods, r))
		}
		for _, f := range files[mod.dir] {
			m.uses = append(m.uses, in.goUses(mod, mods, f)...)
		}
		out = append(out, m)
	}
	return out
}

// governed returns files by the directory of the innermost manifest around them.
func (in *inspection) governed(manifest string, wanted func(string) bool) map[string][]string {
	dirs := map[string]bool{}
	for _, f := range in.Files {
		if path.Base(f) == manifest && !adopt.Foreign(f) {
			dirs[path.Dir(f)] = true
		}
	}
	out := map[string][]string{}
	for _, f := range in.Files {
		if !wanted(f) || adopt.Foreign(f) {
			continue
		}
		dir := path.Dir(f)
		for !dirs[dir] && dir != "." {
			dir = path.Dir(dir)
		}
		if dirs[dir] {
			out[dir] = append(out[dir], f)
		}
	}
	return out
}

func isBelow(dir, file string) bool { return dir == "." || strings.HasPrefix(file, dir+"/") }

func (mod goModule) entry(in *inspection, mods []goModule, r *modfile.Require) entry {
	e := entry{name: r.Mod.Path, line: r.Syntax.Start.Line, column: max(r.Syntax.Start.LineRune, 1)}
	e.version = r.Mod.Version
	e.setVersion = func(version string) []Edit {
		text := in.text(mod.file)
		from, ok := offset(text, r.Syntax.Start.Line, max(r.Syntax.Start.LineRune, 1))
		if !ok {
			return nil
		}
		at := strings.Index(text[from:], r.Mod.Version)
		if at < 0 {
			return nil
		}
		return []Edit{between(mod.file, text, from+at, from+at+len(r.Mod.Version), canonical(version))}
	}
	e.why = "remove it, or mark it // indirect if another module needs it: go mod tidy tells"
	if by := mod.neededBy(mods, r.Mod.Path); by != "" && !r.Indirect {
		e.why = "mark it // indirect, for " + by + " needs it"
		if at, ok := offset(in.text(mod.file), r.Syntax.End.Line, r.Syntax.End.LineRune); ok && len(r.Syntax.Suffix) == 0 {
			e.remove = []Edit{between(mod.file, in.text(mod.file), at, at, " // indirect")}
		}
	}
	if r.Indirect {
		e.scope = indirect
		text := in.text(mod.file)
		if from, ok := offset(text, r.Syntax.End.Line, r.Syntax.End.LineRune); ok {
			line, _, _ := strings.Cut(text[from:], "\n")
			if strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "//")) == "indirect" {
				e.move = []Edit{between(mod.file, text, from, from+len(strings.TrimRight(line, "\r")), "")}
			}
		}
	}
	return e
}

// neededBy returns a module of this repository that a module requires, and that
// requires another one itself; empty if there is none.
func (mod goModule) neededBy(mods []goModule, path string) string {
	for _, m := range mods {
		requires := func(of goModule, name string) bool {
			return slices.ContainsFunc(of.Require, func(r *modfile.Require) bool { return r.Mod.Path == name })
		}
		if m.dir != mod.dir && requires(mod, m.Module.Mod.Path) && requires(m, path) {
			return m.Module.Mod.Path
		}
	}
	return ""
}

// toolsOf returns whether a module provides a tool that go.mod names.
func (in *inspection) toolsOf(mod goModule) func(string) bool {
	return func(name string) bool {
		return slices.ContainsFunc(mod.Tool, func(t *modfile.Tool) bool { return isWithin(name, t.Path) })
	}
}

// isWithin tells whether a package belongs to a module, by its path.
func isWithin(module, pkg string) bool { return pkg == module || strings.HasPrefix(pkg, module+"/") }

// goUses returns the modules that a file imports packages of: those that go.mod
// requires, or else the package's own path. The standard library, the module itself,
// and modules of this repository that a workspace provides, are none.
func (in *inspection) goUses(mod goModule, mods []goModule, file string) (out []use) {
	src := in.source(file)
	for _, imp := range src.imports {
		first, _, _ := strings.Cut(imp.Spec, "/")
		if imp.Spec == "C" || !strings.Contains(first, ".") {
			continue
		}
		name := mod.providing(imp.Spec)
		isLocal := func(m goModule) bool { return isWithin(m.Module.Mod.Path, imp.Spec) }
		if name == mod.Module.Mod.Path || name == "" && slices.ContainsFunc(mods, isLocal) {
			continue // what a workspace provides, needs-missing looks at
		}
		out = append(out, use{
			name: cmp.Or(name, imp.Spec), file: file, line: imp.Line, column: imp.Column,
			test: strings.HasSuffix(file, "_test.go"), generated: src.generated,
		})
	}
	return out
}

// providing returns the module, among the one itself and those that it requires,
// that a package belongs to: the one with the longest path; empty if there is none.
func (mod goModule) providing(pkg string) (name string) {
	if isWithin(mod.Module.Mod.Path, pkg) {
		name = mod.Module.Mod.Path
	}
	for _, r := range mod.Require {
		if isWithin(r.Mod.Path, pkg) && len(r.Mod.Path) > len(name) {
			name = r.Mod.Path
		}
	}
	return name
}
