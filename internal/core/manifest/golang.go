package manifest

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"grayloft.example/grayloft/internal/core/edit"
)

// golang reads Go modules and workspaces: https://go.dev/ref/mod. Build constraints do
// not matter.
type golang struct{}

func (golang) Name() string { return "go" }

// goModule is a go.mod with the directory that it governs.
type goModule struct {
	*modfile.File
	dir, file  string
	workspaces []string // the go.work files that use it
}

func (golang) Manifests(r *Repo) (out []Manifest) {
	var mods []goModule
	for _, f := range r.named("go.mod") {
		if m, err := modfile.Parse(f, []byte(r.text(f)), nil); err == nil && m.Module != nil {
			mods = append(mods, goModule{m, path.Dir(f), f, nil})
		}
	}
	for _, f := range r.named("go.work") {
		w, err := modfile.ParseWork(f, []byte(r.text(f)), nil)
		if err != nil {
			continue
		}
		for _, use := range w.Use {
			for i := range mods {
				if mods[i].dir == path.Join(path.Dir(f), use.Path) {
					mods[i].workspaces = append(mods[i].workspaces, f)
				}
			}
		}
	}
	files := r.governed(dirsOf(r.named("go.mod")), func(f string) bool { return strings.HasSuffix(f, ".go") })
	for _, mod := range mods {
		m := Manifest{File: mod.file, Words: Words{Shipped: "require", Add: "add it with go get %s"}, mentioned: mod.hasTool}
		for _, q := range mod.Require {
			m.Entries = append(m.Entries, mod.entry(r.text(mod.file), mods, q))
		}
		for _, f := range files[mod.dir] {
			m.Uses = append(m.Uses, mod.uses(r, mods, f)...)
		}
		out = append(out, m)
	}
	return out
}

func (mod goModule) entry(text string, mods []goModule, r *modfile.Require) Entry {
	e := Entry{Name: r.Mod.Path, Version: r.Mod.Version, Line: r.Syntax.Start.Line, Column: max(r.Syntax.Start.LineRune, 1)}
	e.setVersion = func(version string) []edit.Edit {
		from, ok := edit.Offset(text, e.Line, e.Column)
		if !ok {
			return nil
		}
		at := strings.Index(text[from:], r.Mod.Version)
		if at < 0 {
			return nil
		}
		return []edit.Edit{edit.Between(mod.file, text, from+at, from+at+len(r.Mod.Version), "v"+strings.TrimPrefix(version, "v"))}
	}
	e.Local = mod.isLocal(mods, r.Mod.Path)
	e.Advice = "remove it, or mark it // indirect if another module needs it: go mod tidy tells"
	end, ok := edit.Offset(text, r.Syntax.End.Line, r.Syntax.End.LineRune)
	if by := mod.neededBy(mods, r.Mod.Path); by != "" && !r.Indirect {
		e.Advice = "mark it // indirect, for " + by + " needs it"
		if ok && len(r.Syntax.Suffix) == 0 {
			e.Remove = []edit.Edit{edit.Between(mod.file, text, end, end, " // indirect")}
		}
	}
	if r.Indirect {
		e.Scope = Indirect
		line, _, _ := strings.Cut(text[min(end, len(text)):], "\n")
		if ok && strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "//")) == "indirect" {
			e.Move = []edit.Edit{edit.Between(mod.file, text, end, end+len(strings.TrimRight(line, "\r")), "")}
		}
	}
	return e
}

// isLocal tells whether a workspace provides a module, or a directory replaces it in all
// versions.
func (mod goModule) isLocal(mods []goModule, name string) bool {
	return slices.ContainsFunc(mods, func(m goModule) bool { return m.Module.Mod.Path == name && mod.sharesWorkspace(m) }) ||
		slices.ContainsFunc(mod.Replace, func(x *modfile.Replace) bool {
			return x.Old.Path == name && x.Old.Version == "" && modfile.IsDirectoryPath(x.New.Path)
		})
}

// neededBy returns a module of this repository that a module requires, and that
// requires another one itself; empty if there is none.
func (mod goModule) neededBy(mods []goModule, path string) string {
	requires := func(of goModule, name string) bool {
		return slices.ContainsFunc(of.Require, func(r *modfile.Require) bool { return r.Mod.Path == name })
	}
	for _, m := range mods {
		if m.dir != mod.dir && requires(mod, m.Module.Mod.Path) && requires(m, path) {
			return m.Module.Mod.Path
		}
	}
	return ""
}

// hasTool tells whether a module provides a tool that go.mod names.
func (mod goModule) hasTool(name string) bool {
	return slices.ContainsFunc(mod.Tool, func(t *modfile.Tool) bool { return isWithin(name, t.Path) })
}

// isWithin tells whether a package belongs to a module, by its path.
func isWithin(module, pkg string) bool { return pkg == module || strings.HasPrefix(pkg, module+"/") }

// uses returns the modules that a file imports packages of: those that go.mod
// requires, or else the package's own path. The standard library, the module itself,
// and modules that a workspace provides, are none.
func (mod goModule) uses(r *Repo, mods []goModule, file string) (out []Use) {
	src := r.Imports.Of(file)
	for _, imp := range src.Imports {
		first, _, _ := strings.Cut(imp.Spec, "/")
		if imp.Spec == "C" || !strings.Contains(first, ".") {
			continue
		}
		name := mod.providing(imp.Spec)
		use := Use{
			Name: cmp.Or(name, imp.Spec), File: file, Line: imp.Line, Column: imp.Column, Test: imp.Test, Certain: !src.Generated,
		}
		if name == "" {
			name, use.Advice = mod.local(mods, imp.Spec)
		}
		if name != mod.Module.Mod.Path {
			out = append(out, use)
		}
	}
	return out
}

// local tells how a module of this repository is declared that a package belongs to. It
// returns the module's own path if a workspace provides the package.
func (mod goModule) local(mods []goModule, pkg string) (provider, advice string) {
	for _, m := range mods {
		if !isWithin(m.Module.Mod.Path, pkg) {
			continue
		}
		if mod.sharesWorkspace(m) {
			return mod.Module.Mod.Path, ""
		}
		advice = fmt.Sprintf("require %s and replace it by %s, or use both in a go.work", m.Module.Mod.Path, m.dir)
	}
	return "", advice
}

func (mod goModule) sharesWorkspace(m goModule) bool {
	return slices.ContainsFunc(mod.workspaces, func(w string) bool { return slices.Contains(m.workspaces, w) })
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
