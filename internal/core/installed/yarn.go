package installed

import (
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// yarnPackage is an entry of a lock file of yarn from version 2: YAML, by what was asked for.
type yarnPackage struct {
	Resolution   string            `yaml:"resolution"`
	Version      string            `yaml:"version"`
	Checksum     string            `yaml:"checksum"`
	Dependencies map[string]string `yaml:"dependencies"`
	Peers        map[string]string `yaml:"peerDependencies"`
	Bin          map[string]string `yaml:"bin"`
}

// parseYarn reads what yarn from version 2 installed with nodeLinker "node-modules". The record says where
// each package is; on what it depends is in the lock file, unless that is of another time.
func parseYarn(files map[string]string) (*State, error) {
	var record map[string]struct {
		Locations []string `yaml:"locations"`
	}
	if err := yaml.Unmarshal([]byte(files[""]), &record); err != nil {
		return nil, err
	}
	var lock map[string]yarnPackage
	if err := yaml.Unmarshal([]byte(files["yarn.lock"]), &lock); err != nil {
		return nil, err
	}
	locked, dirs := map[string]yarnPackage{}, map[string][]string{}
	for _, p := range lock {
		locked[p.Resolution] = p
		if _, dir, ok := strings.Cut(p.Resolution, workspace); ok {
			dirs[dir] = p.names()
		}
	}
	places := map[string]place{}
	for locator, r := range record {
		locator = withoutVirtual(locator)
		p, known := locked[locator]
		of := place{
			version: p.Version, identity: locator + " " + p.Checksum, names: p.names(), unclear: !known,
			programs: slices.Collect(maps.Keys(p.Bin)),
		}
		if _, dir, ok := strings.Cut(locator, workspace); ok {
			of = place{to: dir}
		}
		for _, at := range r.Locations {
			if at != "" { // the root itself
				places[at] = of
			}
		}
	}
	return flat(places, dirs), nil
}

// workspace separates the name of a package of the repository from its directory.
const workspace = "@workspace:"

func (p yarnPackage) names() []string {
	return slices.AppendSeq(slices.Collect(maps.Keys(p.Dependencies)), maps.Keys(p.Peers))
}

// withoutVirtual returns the locator of a package that has several instances, one for each set of its
// peers: name@virtual:DIGEST#RESOLUTION.
func withoutVirtual(locator string) string {
	name, rest, ok := strings.Cut(locator, "@virtual:")
	if !ok {
		return locator
	}
	_, plain, _ := strings.Cut(rest, "#")
	return name + "@" + plain
}
