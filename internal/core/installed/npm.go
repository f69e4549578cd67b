package installed

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// npmManifest is what a manifest says of the packages on which it depends, and its scripts
// (https://docs.npmjs.com/cli/configuring-npm/package-json).
type npmManifest struct {
	Dependencies map[string]string `json:"dependencies"`
	Dev          map[string]string `json:"devDependencies"`
	Optional     map[string]string `json:"optionalDependencies"`
	Peers        map[string]string `json:"peerDependencies"`
	Scripts      map[string]string `json:"scripts"`
}

// names returns those of all packages that may be found.
func (m npmManifest) names() []string {
	set := map[string]string{}
	for _, table := range []map[string]string{m.Dependencies, m.Dev, m.Optional, m.Peers} {
		maps.Copy(set, table)
	}
	return slices.Sorted(maps.Keys(set))
}

// npmPackage is an entry of the record, which has the format of a lock file
// (https://docs.npmjs.com/cli/configuring-npm/package-lock-json): packages by where they are.
type npmPackage struct {
	npmManifest
	Version   string            `json:"version"`
	Resolved  string            `json:"resolved"`
	Integrity string            `json:"integrity"`
	Link      bool              `json:"link"`
	Bin       map[string]string `json:"bin"`
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
	var manifest npmManifest
	if err := json.Unmarshal([]byte(files[Manifest]), &manifest); err != nil {
		return nil, err
	}
	places, dirs := map[string]place{}, map[string][]string{".": manifest.names()}
	for at, p := range record.Packages {
		switch {
		case p.Link:
			places[at] = place{to: p.Resolved}
		case !strings.HasPrefix(at, modules+"/") && !strings.Contains(at, "/"+modules+"/"):
			dirs[at] = p.names()
		default:
			places[at] = place{
				version: p.Version, identity: cmp.Or(p.Integrity, p.Resolved), names: p.names(),
				programs: slices.Collect(maps.Keys(p.Bin)),
			}
		}
	}
	return flat(places, dirs), nil
}
