package survey

import (
	"encoding/json"
	"fmt"
	"path"
	"strings"

	"go.yaml.in/yaml/v3"
)

// installed returns a probe for the packages that a package manager installed for a package: what its
// scripts depend on is then its own part of them, with those of the directories above, and a sealed
// script finds them. "" if there are none.
func (s *surveyor) installed(m npmPackage) string {
	for d := m.dir; ; d = path.Dir(d) {
		if p, ok := s.packagesIn(d); ok {
			switch {
			case p.Name == "":
				return ""
			case p.Installed == "":
			case d != m.dir && d == "." && !s.workspaces && s.dependsOnOthers(m):
				// That lock file does not know it: it is installed by itself.
			case d != m.dir || d == ".":
				p.Installed = "repo:" + path.Join(d, p.Installed)
			}
			return s.addProbe(p)
		}
		if d == "." && !s.dependsOnOthers(m) {
			return ""
		}
		if d == "." {
			return s.addProbe(Probe{Name: "packages", Installed: "node_modules/.package-lock.json"})
		}
	}
}

// dependsOnOthers tells whether a package depends on some that are not in the repository.
func (s *surveyor) dependsOnOthers(m npmPackage) bool {
	for _, table := range []map[string]string{m.Dependencies, m.DevDependencies, m.Optional} {
		for name := range table {
			if _, own := s.npmDirs[name]; !own {
				return true
			}
		}
	}
	return false
}

// packagesIn is packages, once for each directory: a lock file may be long.
func (s *surveyor) packagesIn(dir string) (p Probe, ok bool) {
	known, seen := s.installs[dir]
	if !seen {
		if p, ok := s.packages(dir); ok {
			known = &p
		}
		s.installs[dir] = known
	}
	if known == nil {
		return p, false
	}
	return *known, true
}

// packages returns the probe for what is installed by the lock file in a directory, if there is one. It has
// no name if that names no packages, or nothing records what is installed.
func (s *surveyor) packages(dir string) (p Probe, ok bool) {
	for _, name := range []string{"package-lock.json", "npm-shrinkwrap.json"} {
		if text, ok := s.read(path.Join(dir, name)); ok && s.files[path.Join(dir, name)] {
			if !hasPackages(text) {
				return p, true
			}
			return Probe{Name: "packages", Installed: "node_modules/.package-lock.json"}, true
		}
	}
	if lock := path.Join(dir, "pnpm-lock.yaml"); s.files[lock] {
		if text, _ := s.read(lock); !strings.Contains(text, "\npackages:") {
			return p, true
		}
		return Probe{Name: "packages", Installed: "node_modules/.pnpm/lock.yaml"}, true
	}
	lock := path.Join(dir, "yarn.lock")
	if !s.files[lock] {
		return p, false
	}
	text, _ := s.read(lock)
	if !strings.Contains(text, "\n__metadata:") {
		if !strings.Contains(text, "\n  resolved ") {
			return p, true
		}
		return wholeRecord(dir), true
	}
	return s.yarnPackages(dir)
}

// yarnPackages is packages for yarn from version 2.
func (s *surveyor) yarnPackages(dir string) (p Probe, ok bool) {
	text, _ := s.read(path.Join(dir, ".yarnrc.yml"))
	settings := struct { // https://yarnpkg.com/configuration/yarnrc
		Linker string `yaml:"nodeLinker"`
		Inline bool   `yaml:"pnpEnableInlining"`
	}{"pnp", true}
	_ = yaml.Unmarshal([]byte(text), &settings) // yarn says what is wrong with them
	switch {
	case settings.Linker == "node-modules":
		return Probe{Name: "packages", Installed: "node_modules/.yarn-state.yml"}, true
	case settings.Linker != "pnp":
		return p, true
	}
	file := ".pnp.cjs"
	if !settings.Inline {
		file = ".pnp.data.json"
	}
	return Probe{Name: "packages", Installed: file}, true
}

// wholeRecord returns a probe that prints all of what yarn 1 recorded, by a command.
func wholeRecord(dir string) Probe {
	at := path.Join(dir, "node_modules/.yarn-integrity")
	return Probe{
		Name: "packages", Run: fmt.Sprintf("cat %s || { echo 'yarn install comes first' >&2; exit 1; }", shellWord(at)),
		Reads: []string{at, path.Join(dir, "yarn.lock")}, // what is installed follows the lock file
		Dirs:  []string{"repo:" + path.Join(dir, "node_modules"), "node_modules"},
	}
}

// hasPackages tells whether a lock file names packages that are installed, and not only
// those of a workspace.
func hasPackages(lock string) bool {
	var l struct {
		Packages map[string]struct {
			Link bool `json:"link"`
		} `json:"packages"`
	}
	if json.Unmarshal([]byte(lock), &l) != nil {
		return false
	}
	for name, p := range l.Packages {
		if strings.Contains(name, "node_modules/") && !p.Link {
			return true
		}
	}
	return false
}
