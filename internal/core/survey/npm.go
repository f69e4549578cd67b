package survey

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pattern"
)

// packageJSON is the part of a package.json that is used here
// (https://docs.npmjs.com/cli/configuring-npm/package-json).
type packageJSON struct {
	Name            string            `json:"name"`
	Version         string            `json:"version"`
	Scripts         map[string]string `json:"scripts"`
	Workspaces      json.RawMessage   `json:"workspaces"`
	Dependencies    map[string]string `json:"dependencies"`
	DevDependencies map[string]string `json:"devDependencies"`
	Peers           map[string]string `json:"peerDependencies"`
	Optional        map[string]string `json:"optionalDependencies"`
}

func (m packageJSON) workspaces() []string {
	var list []string
	if json.Unmarshal(m.Workspaces, &list) == nil {
		return list
	}
	var deep struct{ Packages []string }
	_ = json.Unmarshal(m.Workspaces, &deep)
	return deep.Packages
}

// onlyMarks tells whether a manifest makes no package: it says how the files beside it are read.
func (m packageJSON) onlyMarks() bool {
	return m.Name == "" && len(m.Scripts)+len(m.Workspaces)+len(m.Dependencies)+len(m.DevDependencies)+len(m.Peers)+len(m.Optional) == 0
}

type npmPackage struct {
	packageJSON
	dir string
}

// npm finds packages with scripts, in workspaces and alone.
func (s *surveyor) npm() {
	s.npmDirs = map[string]string{}
	versions := map[string]string{}
	var list []npmPackage
	members := s.npmMembers()
	s.workspaces = members != nil
	for _, f := range s.named("package.json") {
		dir := path.Dir(f)
		if members != nil && dir != "." && !members[dir] {
			continue
		}
		text, _ := s.read(f)
		var m packageJSON
		if err := json.Unmarshal([]byte(text), &m); err != nil {
			s.note(fmt.Sprintf("%s is skipped: %v", f, err))
			continue
		}
		if m.onlyMarks() {
			continue
		}
		list = append(list, npmPackage{m, dir})
		if m.Name != "" {
			s.npmDirs[m.Name] = dir
			versions[m.Name] = m.Version
		}
	}
	for _, m := range list {
		if len(m.Scripts) > 0 || m.dir != "." {
			s.npmPackage(m)
		}
	}
	for _, m := range list {
		s.npmNeeds(m, versions)
	}
}

// npmMembers returns the directories that the root workspace names, as npm and yarn or as pnpm
// declares it; nil if there is none.
func (s *surveyor) npmMembers() map[string]bool {
	patterns := s.workspace()
	if len(patterns) == 0 {
		return nil
	}
	out := map[string]bool{}
	for _, f := range s.named("package.json") {
		dir := path.Dir(f)
		for _, pat := range patterns {
			pat, not := strings.CutPrefix(pat, "!")
			if ok, _ := doublestar.Match(strings.Trim(strings.TrimPrefix(pat, "./"), "/"), dir); ok {
				out[dir] = !not
			}
		}
	}
	return out
}

// workspace returns the patterns of the root workspace
// (https://docs.npmjs.com/cli/using-npm/workspaces, https://pnpm.io/pnpm-workspace_yaml).
func (s *surveyor) workspace() []string {
	if text, ok := s.read("pnpm-workspace.yaml"); ok {
		var w struct{ Packages []string }
		if err := yaml.Unmarshal([]byte(text), &w); err != nil {
			s.note(fmt.Sprintf("pnpm-workspace.yaml is not read, so each package.json counts: %v", err))
		}
		return w.Packages
	}
	text, _ := s.read("package.json")
	var m packageJSON
	_ = json.Unmarshal([]byte(text), &m) // one that is none was noted
	return m.workspaces()
}

func (s *surveyor) npmPackage(m npmPackage) {
	p := s.project(m.dir, "npm")
	p.Stem = "npm-package"
	if m.dir != "." {
		p.Offers = []string{"**", "!**/*.test.*", "!**/*.spec.*", "!**/__tests__/**", "!test/**", "!tests/**", "!**/*.md"}
	}
	probes := []string{s.probe("node", "node --version")}
	installed := s.installed(m)
	if installed != "" {
		probes = append(probes, installed)
	}
	shared := s.npmShared(m.dir, installed == "")
	tool := s.npmTool(m.dir)
	for _, name := range sortedKeys(m.Scripts) {
		if attached(name, m.Scripts) || plainName(name) == "" {
			continue
		}
		script := m.Scripts["pre"+name] + "\n" + m.Scripts[name] + "\n" + m.Scripts["post"+name]
		writes, scratch := s.byFramework(m, script)
		p.add(&Task{
			Name: plainName(name), Run: tool + " " + shellWord(name),
			From:   fmt.Sprintf("scripts.%s in %s", name, path.Join(m.dir, "package.json")),
			Script: script, Reads: slices.Concat(shared, s.settingsFiles(m, name, script)), Probes: probes,
			makes: writes, makesWhy: "where its tool writes by default", Scratch: scratch,
		})
	}
}

// npmShared returns the files above a package that its scripts may depend on:
// configurations that packages share and, with locks, lock files.
func (s *surveyor) npmShared(own string, locks bool) []string {
	return s.above(own, func(f string) bool {
		base := path.Base(f)
		if base == "package.json" {
			text, _ := s.read(f)
			return configures(text)
		}
		return sharedConfig.MatchString(base) || locks && slices.Contains(npmLocks, base)
	})
}

var (
	npmLocks = []string{"package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml"}
	// sharedConfig matches the files that tools look for in the directories around a package.
	sharedConfig = pattern.New(
		`^(tsconfig.*\.json|\.[a-z]+rc(\.[a-z]+)?|[a-z-]+\.config\.[cm]?[jt]s(on)?|\.[a-z]+ignore|\.editorconfig)$`,
	)
	// manifestKeys are those that npm knows, and some that only concern the package itself; tools
	// keep their configuration under others (https://docs.npmjs.com/cli/configuring-npm/package-json).
	manifestKeys = strings.Fields(`name version description keywords homepage bugs license licenses author contributors maintainers
		funding files exports main browser bin man directories repository scripts config dependencies devDependencies
		peerDependencies peerDependenciesMeta bundleDependencies bundledDependencies optionalDependencies overrides engines os cpu
		libc devEngines private publishConfig workspaces type types typings module packageManager resolutions imports
		sideEffects readme pnpm`)
)

// configures tells whether a manifest contains the configuration of a tool.
func configures(manifest string) bool {
	var keys map[string]json.RawMessage
	if json.Unmarshal([]byte(manifest), &keys) != nil {
		return false
	}
	for key := range keys {
		if !slices.Contains(manifestKeys, key) {
			return true
		}
	}
	return false
}

// npmTool is the program that matches the lock file.
func (s *surveyor) npmTool(dir string) string {
	for d := dir; ; d = path.Dir(d) {
		switch {
		case s.files[path.Join(d, "yarn.lock")]:
			return "yarn run --silent"
		case s.files[path.Join(d, "pnpm-lock.yaml")]:
			return "pnpm run --silent"
		case s.files[path.Join(d, "package-lock.json")] || d == ".":
			return "npm run --silent"
		}
	}
}

// attached tells whether npm runs a script automatically before or after
// another.
func attached(name string, all map[string]string) bool {
	for _, lead := range []string{"pre", "post"} {
		if rest, ok := strings.CutPrefix(name, lead); ok {
			if _, has := all[rest]; has {
				return true
			}
			switch rest {
			case "install", "pack", "publish", "publishOnly", "prepare", "version", "uninstall":
				return true
			}
		}
	}
	return name == "install" || name == "prepare" || name == "prepublishOnly" || name == "prepack"
}

// plainName returns a name in the form that tasks may have; empty if nothing is left of
// it, as of a script that is a line between others.
func plainName(name string) string {
	plain := strings.Map(func(r rune) rune {
		if strings.ContainsRune("@:/ \t\r\n\"'()!?[]{}\\,", r) {
			return '-'
		}
		return r
	}, name)
	return strings.Trim(strings.ReplaceAll(plain, "*", ""), "-")
}

func shellWord(w string) string {
	if strings.ContainsAny(w, " *'\"$&|;<>()!") {
		return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
	}
	return w
}

// sourcesOf returns the JavaScript and TypeScript files of a project.
func (s *surveyor) sourcesOf(dir string) []string {
	if s.sources == nil {
		s.sources = map[string][]string{}
		for _, f := range s.repo.Files {
			if !imports.IsScript(f) || imports.IsForeign(f) {
				continue
			}
			if owner, ok := s.within(f); ok {
				s.sources[owner] = append(s.sources[owner], f)
			}
		}
	}
	return s.sources[dir]
}

// npmNeeds derives needs from the manifest and from imports in the sources, given the versions of the
// packages of the repository.
func (s *surveyor) npmNeeds(m npmPackage, versions map[string]string) {
	p := s.projects[m.dir]
	if p == nil {
		return
	}
	others := map[string]bool{} // of the same names, from a registry
	for _, deps := range []map[string]string{m.Dependencies, m.DevDependencies, m.Peers, m.Optional} {
		for _, name := range sortedKeys(deps) {
			if others[name] = isOther(deps[name], versions[name]); others[name] {
				continue
			}
			if dir, ok := s.npmDirs[name]; ok {
				p.need(dir, fmt.Sprintf("%s in %s", name, path.Join(m.dir, "package.json")))
			}
		}
	}
	for _, f := range s.sourcesOf(m.dir) {
		for _, x := range s.repo.reader().Of(f).Imports {
			if dir, ok := s.imported(f, x.Spec); ok && !others[packageName(x.Spec)] {
				p.need(dir, fmt.Sprintf("%q imported by %s", x.Spec, f))
			}
		}
	}
}

// imported returns the project that a module specifier refers to: a relative
// path out of the package's directory, or the name of a package of this
// repository.
func (s *surveyor) imported(from, spec string) (string, bool) {
	if strings.HasPrefix(spec, ".") {
		return s.within(path.Join(path.Dir(from), spec, "x"))
	}
	dir, ok := s.npmDirs[packageName(spec)]
	return dir, ok
}

// packageName returns the name of the package that a specifier starts with.
func packageName(spec string) string {
	segs := strings.Split(spec, "/")
	if strings.HasPrefix(spec, "@") && len(segs) > 1 {
		return segs[0] + "/" + segs[1]
	}
	return segs[0]
}

// isOther tells whether a requirement cannot mean the package of that name in the repository, because it
// has another version (https://docs.npmjs.com/cli/using-npm/workspaces). One before a release, or
// without a version, may be meant.
func isOther(requirement, version string) bool {
	v, err := semver.NewVersion(version)
	if err != nil || v.Prerelease() != "" {
		return false
	}
	c, err := semver.NewConstraint(requirement) // also fails for workspace: and the like
	return err == nil && !c.Check(v)
}
