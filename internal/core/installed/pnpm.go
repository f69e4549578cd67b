package installed

import (
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// pnpmVersion is the version of a dependency, in the table of an importer a mapping with what was
// asked for (in format 5 and in packages, the version alone).
type pnpmVersion string

func (v *pnpmVersion) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind != yaml.MappingNode {
		*v = pnpmVersion(n.Value)
		return nil
	}
	var m struct {
		Version string `yaml:"version"`
	}
	err := n.Decode(&m)
	*v = pnpmVersion(m.Version)
	return err
}

type pnpmUses struct {
	Dependencies map[string]pnpmVersion `yaml:"dependencies"`
	Dev          map[string]pnpmVersion `yaml:"devDependencies"`
	Optional     map[string]pnpmVersion `yaml:"optionalDependencies"`
	Resolution   yaml.Node              `yaml:"resolution"`
	HasBin       bool                   `yaml:"hasBin"`
}

// parsePNPM reads what pnpm installed: a lock file (https://github.com/pnpm/spec/tree/master/lockfile)
// of what is there, in its formats 5, 6 and 9.
func parsePNPM(files map[string]string) (*State, error) {
	var record struct {
		Settings  map[string]any      `yaml:"settings"`
		Overrides map[string]string   `yaml:"overrides"`
		Importers map[string]pnpmUses `yaml:"importers"`
		Packages  map[string]pnpmUses `yaml:"packages"`
		Snapshots map[string]pnpmUses `yaml:"snapshots"`
		pnpmUses  `yaml:",inline"`    // of a repository with one package, in formats 5 and 6
	}
	if err := yaml.Unmarshal([]byte(files[""]), &record); err != nil {
		return nil, err
	}
	head := ""
	if len(record.Settings)+len(record.Overrides) > 0 {
		text, err := yaml.Marshal(map[string]any{"settings": record.Settings, "overrides": record.Overrides})
		if err != nil {
			return nil, err
		}
		head = string(text)
	}
	modules := struct {
		Linker  string                       `yaml:"nodeLinker"`
		Hoisted map[string]map[string]string `yaml:"hoistedDependencies"`
	}{}
	if err := yaml.Unmarshal([]byte(files["node_modules/.modules.yaml"]), &modules); err != nil {
		return nil, err
	}
	p := pnpmRecord{record.Packages, record.Snapshots}
	s := &State{head: head, nodes: map[string]node{}}
	if record.Importers == nil {
		record.Importers = map[string]pnpmUses{".": record.pnpmUses}
	}
	for dir, uses := range record.Importers {
		s.nodes[directory(dir)] = p.node("", "", dir, uses)
	}
	installed := record.Snapshots
	if installed == nil {
		installed = record.Packages
	}
	for key, uses := range installed {
		s.nodes[key] = p.node(key, p.identity(key), ".", uses)
		// Flat directories have the programs of all packages, whose names are not recorded.
		flat := modules.Linker == "hoisted" && (p.contents(key).HasBin || strings.Contains(key, "@types/"))
		if flat || slices.Contains(slices.Collect(maps.Values(modules.Hoisted[key])), "public") { // where all find it
			s.everyone = append(s.everyone, key)
		}
	}
	return s, nil
}

type pnpmRecord struct{ packages, snapshots map[string]pnpmUses }

// node returns the node of something with dependencies. Links lead to a directory from that of the importer.
func (p pnpmRecord) node(name, identity, dir string, uses pnpmUses) node {
	n := node{name: name, identity: identity}
	for _, table := range []map[string]pnpmVersion{uses.Dependencies, uses.Dev, uses.Optional} {
		for used, version := range table {
			if to, ok := strings.CutPrefix(string(version), "link:"); ok {
				n.uses = append(n.uses, directory(path.Join(dir, to)))
			} else if key, ok := p.find(used, string(version)); ok {
				n.uses = append(n.uses, key)
			} else {
				n.unclear = true
			}
		}
	}
	return n
}

// find returns the key of a package: name@version, or the version alone for another name or what is
// in no registry; with a slash first in formats 5 and 6, and between them in format 5.
func (p pnpmRecord) find(name, version string) (string, bool) {
	in := p.snapshots
	if in == nil {
		in = p.packages
	}
	for _, key := range []string{name + "@" + version, version, "/" + name + "@" + version, "/" + name + "/" + version, "/" + version} {
		if _, ok := in[key]; ok {
			return key, true
		}
	}
	return "", false
}

// contents returns what is recorded of the contents of a package, whatever it was resolved for.
func (p pnpmRecord) contents(key string) pnpmUses {
	if p.snapshots != nil {
		key, _, _ = strings.Cut(key, "(")
	}
	return p.packages[key]
}

// identity stands for where the contents of a package come from, with their digest.
func (p pnpmRecord) identity(key string) string {
	resolution := p.contents(key).Resolution
	text, err := yaml.Marshal(&resolution)
	if err != nil {
		return ""
	}
	return string(text)
}
