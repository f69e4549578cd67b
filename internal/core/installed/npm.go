package installed

import (
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"
)

// npmNames are the tables of a manifest that name packages on which it depends
// (https://docs.npmjs.com/cli/configuring-npm/package-json).
type npmNames struct {
	Dependencies map[string]string `json:"dependencies"`
	Dev          map[string]string `json:"devDependencies"`
	Optional     map[string]string `json:"optionalDependencies"`
	Peers        map[string]string `json:"peerDependencies"`
}

func (n npmNames) all() []string {
	set := map[string]string{}
	for _, m := range []map[string]string{n.Dependencies, n.Dev, n.Optional, n.Peers} {
		maps.Copy(set, m)
	}
	return slices.Collect(maps.Keys(set))
}

// npmPackage is an entry of the record, which has the format of a lock file
// (https://docs.npmjs.com/cli/configuring-npm/package-lock-json): packages by where they are.
type npmPackage struct {
	npmNames
	Version   string `json:"version"`
	Resolved  string `json:"resolved"`
	Integrity string `json:"integrity"`
	Link      bool   `json:"link"`
	// Bin are programs by their names.
	Bin map[string]string `json:"bin"`
}

// parseNPM reads what npm from version 7 installed. The record has no entry for the directory of the
// lock file, whose manifest says what it depends on.
func parseNPM(files map[string]string) (*State, error) {
	var record struct {
		Packages map[string]npmPackage `json:"packages"`
	}
	if err := json.Unmarshal([]byte(files[""]), &record); err != nil {
		return nil, err
	}
	var manifest npmNames
	if err := json.Unmarshal([]byte(files["package.json"]), &manifest); err != nil {
		return nil, err
	}
	s := &State{nodes: map[string]node{directory("."): {uses: npmFound(record.Packages, ".", manifest)}}, programs: map[string][]string{}}
	for at, p := range record.Packages {
		switch {
		case p.Link:
			s.nodes[at] = node{line: at + " -> " + p.Resolved, uses: []string{directory(p.Resolved)}}
		case !inModules(at):
			s.nodes[directory(at)] = node{uses: npmFound(record.Packages, at, p.npmNames)}
		default:
			identity := p.Integrity
			if identity == "" {
				identity = p.Resolved
			}
			s.nodes[at] = node{line: at + " " + p.Version + " " + short(identity), uses: npmFound(record.Packages, at, p.npmNames)}
		}
		if isTypes(at) {
			s.everyone = append(s.everyone, at)
		}
		if strings.LastIndex(at, "node_modules/") == 0 { // a script finds the programs of the directories above
			for name := range p.Bin {
				s.programs[name] = append(s.programs[name], at)
			}
		}
	}
	return s, nil
}

// inModules tells whether a path is one of an installed package.
func inModules(at string) bool {
	return strings.HasPrefix(at, "node_modules/") || strings.Contains(at, "/node_modules/")
}

// isTypes tells whether a path is that of declarations that the TypeScript compiler reads without
// being asked to: all packages of a scope in the directories around a source
// (https://www.typescriptlang.org/tsconfig/#types).
func isTypes(at string) bool {
	return strings.HasPrefix(at, "node_modules/@types/") && strings.Count(at, "/") == 2
}

// npmFound returns where the packages are that something at a path finds: in the nearest directory
// of packages around it that has one of the name
// (https://nodejs.org/api/modules.html#loading-from-node_modules-folders).
func npmFound(packages map[string]npmPackage, from string, names npmNames) (out []string) {
	for _, name := range names.all() {
		for dir := from; ; dir = path.Dir(dir) {
			if path.Base(dir) != "node_modules" {
				at := path.Join(dir, "node_modules", name)
				if _, ok := packages[at]; ok {
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
