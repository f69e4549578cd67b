package installed

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// yarnPackage is an entry of a lock file of yarn from version 2: YAML, by what was asked for.
type yarnPackage struct {
	Resolution   string            `yaml:"resolution"`
	Version      string            `yaml:"version"`
	Checksum     string            `yaml:"checksum"`
	Conditions   string            `yaml:"conditions"` // the platforms that it is for
	Dependencies map[string]string `yaml:"dependencies"`
	Bin          map[string]string `yaml:"bin"` // programs by their names
}

// yarnRecord joins what is installed, which is recorded without dependencies, with the lock file.
type yarnRecord struct {
	asked  map[string]string      // resolutions, by what was asked for
	named  map[string][]string    // resolutions, by the names of packages
	locked map[string]yarnPackage // by resolution
	there  map[string]bool        // resolutions that are installed
}

// parseYarn reads what yarn from version 2 installed with nodeLinker "node-modules".
func parseYarn(files map[string]string) (*State, error) {
	var state map[string]struct {
		Locations []string `yaml:"locations"`
	}
	if err := yaml.Unmarshal([]byte(files[""]), &state); err != nil {
		return nil, err
	}
	var lock map[string]yarnPackage
	if err := yaml.Unmarshal([]byte(files["yarn.lock"]), &lock); err != nil {
		return nil, err
	}
	y := yarnRecord{map[string]string{}, map[string][]string{}, map[string]yarnPackage{}, map[string]bool{}}
	s := &State{nodes: map[string]node{}, programs: map[string][]string{}}
	for locator, l := range state {
		locator = withoutVirtual(locator)
		y.there[locator] = true
		if slices.ContainsFunc(l.Locations, isTypes) {
			s.everyone = append(s.everyone, locator)
		}
	}
	for asked, p := range lock {
		for descriptor := range strings.SplitSeq(asked, ", ") {
			y.asked[descriptor] = p.Resolution
		}
		name := yarnName(p.Resolution)
		y.named[name] = append(y.named[name], p.Resolution)
		y.locked[p.Resolution] = p
	}
	for resolution, p := range y.locked {
		if _, dir, ok := strings.Cut(resolution, "@workspace:"); ok {
			s.nodes[directory(dir)] = y.node("", p)
			s.nodes[resolution] = node{uses: []string{directory(dir)}}
			continue
		}
		s.nodes[resolution] = y.node(resolution+" "+short(p.Checksum), p)
		for name := range p.Bin {
			if y.there[resolution] {
				s.programs[name] = append(s.programs[name], resolution)
			}
		}
	}
	for _, locator := range s.everyone {
		if _, ok := s.nodes[locator]; !ok {
			s.nodes[locator] = node{unclear: true}
		}
	}
	return s, nil
}

// node returns the node of a package. Where a dependency is not installed as it is locked, what is there
// in its place is not known.
func (y yarnRecord) node(line string, p yarnPackage) node {
	n := node{line: line}
	for name, wanted := range p.Dependencies {
		candidates, all := y.named[name], true // something else was asked for in its place
		if r, ok := y.asked[name+"@"+wanted]; ok {
			candidates, all = append(y.patched(name), r), false
		}
		missing := 0
		for _, r := range candidates {
			if y.there[r] {
				n.uses = append(n.uses, r)
			} else if y.locked[r].Conditions == "" {
				missing++
			}
		}
		if missing > 0 && (all || missing == len(candidates)) || len(candidates) == 0 {
			n.unclear = true
		}
	}
	return n
}

// patched returns the resolutions of a name that are patches of others: dependencies do not name these.
func (y yarnRecord) patched(name string) (out []string) {
	for _, r := range y.named[name] {
		if strings.HasPrefix(r, name+"@patch:") {
			out = append(out, r)
		}
	}
	return out
}

// yarnName returns the name of the package of a resolution.
func yarnName(resolution string) string {
	if i := strings.Index(resolution[min(1, len(resolution)):], "@"); i >= 0 {
		return resolution[:i+1]
	}
	return resolution
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
