package installed

import (
	"path"
	"strings"
)

// place is what is at a path below a directory of packages, as npm and yarn lay them out: a program
// finds the nearest one of a name.
type place struct {
	version  string
	identity string   // of its contents
	names    []string // of the packages on which it depends
	unclear  bool     // these are not known
	to       string   // the directory that a link leads to; "" for a package
	programs []string
}

// flat returns the state of a layout: what is at each path, and the names on which directories with
// manifests depend.
func flat(places map[string]place, dirs map[string][]string) *State {
	s := &State{nodes: map[string]node{}, programs: map[string][]string{}, find: func(from string, names []string) []string {
		return found(places, from, names)
	}}
	for dir, names := range dirs {
		s.nodes[directory(dir)] = node{uses: found(places, dir, names)}
	}
	for at, p := range places {
		shown := strings.TrimPrefix(at, modules+"/") // those are most
		if p.to != "" {
			s.nodes[at] = node{name: shown + " -> " + p.to, uses: []string{directory(p.to)}}
			continue
		}
		s.nodes[at] = node{name: shown + " " + p.version, identity: p.identity, uses: found(places, at, p.names), unclear: p.unclear}
		if isTypes(at) {
			s.everyone = append(s.everyone, at)
		}
		if strings.LastIndex(at, modules+"/") == 0 { // a script finds the programs of the directories above
			for _, name := range p.programs {
				s.programs[name] = append(s.programs[name], at)
			}
		}
	}
	return s
}

// modules is the name of a directory of packages.
const modules = "node_modules"

// isTypes tells whether a path is that of declarations that the TypeScript compiler reads without
// being asked to: all packages of a scope in the directories around a source
// (https://www.typescriptlang.org/tsconfig/#types).
func isTypes(at string) bool {
	return strings.HasPrefix(at, modules+"/@types/") && strings.Count(at, "/") == 2
}

// found returns where the packages are that something at a path finds: in the nearest directory of
// packages around it that has one of the name
// (https://nodejs.org/api/modules.html#loading-from-node_modules-folders).
func found(places map[string]place, from string, names []string) (out []string) {
	for _, name := range names {
		for dir := from; ; dir = path.Dir(dir) {
			if path.Base(dir) != modules {
				at := path.Join(dir, modules, name)
				if _, ok := places[at]; ok {
					out = append(out, at)
					break
				}
			}
			if next := path.Dir(dir); next == dir || dir == ".." {
				break
			}
		}
	}
	return out
}
