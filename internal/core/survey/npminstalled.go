package survey

import (
	"encoding/json"
	"fmt"
	"path"
	"strings"

	"go.yaml.in/yaml/v3"
)

// installed returns a probe for the packages that npm installed for a package, if a lock
// file says that there are some: what its scripts depend on is then its own part of the
// lock file, and a sealed script finds them.
func (s *surveyor) installed(m npmPackage) string {
	if len(m.Dependencies)+len(m.DevDependencies)+len(m.Optional) == 0 {
		return ""
	}
	for d := m.dir; ; d = path.Dir(d) {
		if state, ok := s.installState(d); ok {
			return s.addProbe(state.probe(d))
		}
		if text, ok := s.read(path.Join(d, "package-lock.json")); ok && s.files[path.Join(d, "package-lock.json")] {
			if !hasPackages(text) {
				return ""
			}
			where := func(name string) string {
				if d == "." && m.dir == "." {
					return name
				}
				return "repo:" + path.Join(d, name)
			}
			p := Probe{
				Name: "packages", Run: npmInstalled, PerProject: true, Dirs: []string{where("node_modules")},
				Reads: []string{"package.json", where("package-lock.json"), where("node_modules/.package-lock.json")},
			}
			if d != m.dir {
				p.Dirs = append(p.Dirs, "node_modules")
			} else if d != "." {
				p.Dirs, p.Reads = []string{"node_modules"}, []string{"package.json", "package-lock.json", "node_modules/.package-lock.json"}
			}
			return s.addProbe(p)
		}
		if d == "." {
			return ""
		}
	}
}

// npmInstalled lists the installed packages. Npm ends with 1 if some do not match what a manifest asks
// for, and names these with their paths, which are others on each machine.
const npmInstalled = `list=$(npm ls --all --json) || test $? = 1; printf '%s\n' "$list" | sed 's| /[^ "]*/node_modules/| node_modules/|g'`

// installState is the file in which a program writes what it has installed: its lock file says only
// what is to be.
type installState struct {
	program, file string
	show          string // the command that prints what of it counts
	dirs          string // in which packages are, with prefixes; those of the repository from its directory
}

// probe returns the probe for what is installed in a directory.
func (i installState) probe(dir string) Probe {
	at := path.Join(dir, i.file)
	p := Probe{
		Name: "packages", Run: fmt.Sprintf("%s %s || { echo '%s install comes first' >&2; exit 1; }", i.show, shellWord(at), i.program),
		Reads: []string{at},
	}
	for d := range strings.FieldsSeq(i.dirs) {
		if rest, ok := strings.CutPrefix(d, "repo:"); ok {
			d = "repo:" + path.Join(dir, rest)
		}
		p.Dirs = append(p.Dirs, d)
	}
	return p
}

// copied are the directories of packages in a workspace: at its root, and in each package.
const copied = "repo:node_modules node_modules"

// installState returns that of the program whose lock file is in a directory. Npm has none: it tells
// what is installed.
func (s *surveyor) installState(dir string) (state installState, ok bool) {
	if s.files[path.Join(dir, "pnpm-lock.yaml")] {
		return installState{"pnpm", "node_modules/.pnpm/lock.yaml", "cat", copied}, true
	}
	lock := path.Join(dir, "yarn.lock")
	if !s.files[lock] {
		return state, false
	}
	text, _ := s.read(lock)
	if !strings.Contains(text, "\n__metadata:") {
		return installState{"yarn", "node_modules/.yarn-integrity", "cat", copied}, true
	}
	text, _ = s.read(path.Join(dir, ".yarnrc.yml"))
	settings := struct { // https://yarnpkg.com/configuration/yarnrc
		Linker string `yaml:"nodeLinker"`
		Inline bool   `yaml:"pnpEnableInlining"`
	}{"pnp", true}
	_ = yaml.Unmarshal([]byte(text), &settings) // yarn says what is wrong with them
	switch {
	case settings.Linker == "node-modules":
		return installState{"yarn", "node_modules/.yarn-state.yml", "cat", copied}, true
	case settings.Linker != "pnp":
		return state, false
	}
	// Packages are read from archives in a cache, whose place is another one on each machine.
	file := ".pnp.cjs"
	if !settings.Inline {
		file = ".pnp.data.json"
	}
	return installState{"yarn", file, `sed 's|"[^" ]*/cache/|"|g'`, "repo:.yarn home:.yarn/berry"}, true
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
