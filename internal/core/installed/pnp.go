package installed

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"strings"

	"go.yaml.in/yaml/v3"
)

// pnpPair is a list of two: a name and what is there, or a reference and its package.
type pnpPair struct {
	name string
	rest json.RawMessage
}

func (p *pnpPair) UnmarshalJSON(text []byte) error {
	var list []json.RawMessage
	if err := json.Unmarshal(text, &list); err != nil {
		return err
	}
	if len(list) != 2 {
		return fmt.Errorf("a list of %d in place of two", len(list))
	}
	p.rest = list[1]
	return json.Unmarshal(list[0], &p.name) // null, of the root itself, leaves it empty
}

// pnpPackage is a package in the data (https://yarnpkg.com/advanced/pnp-spec).
type pnpPackage struct {
	Location     string    `json:"packageLocation"`
	Dependencies []pnpPair `json:"packageDependencies"`
}

// parsePnP reads what yarn from version 2 resolved for a loader that finds packages in archives: the data, as
// JSON or in the script of the loader. Each package finds what it depends on and, as a fallback, what the root
// does. The digests of archives are in the lock file.
func parsePnP(files map[string]string) (*State, error) {
	text, err := pnpData(files[""])
	if err != nil {
		return nil, err
	}
	var data struct {
		Packages []pnpPair `json:"packageRegistryData"`
	}
	if err := json.Unmarshal([]byte(text), &data); err != nil {
		return nil, err
	}
	var lock map[string]yarnPackage
	if err := yaml.Unmarshal([]byte(files["yarn.lock"]), &lock); err != nil {
		return nil, err
	}
	sums := map[string]string{}
	for _, p := range lock {
		sums[p.Resolution] = p.Checksum
	}
	s := &State{nodes: map[string]node{}}
	for _, named := range data.Packages {
		var references []pnpPair
		if err := json.Unmarshal(named.rest, &references); err != nil {
			return nil, err
		}
		for _, r := range references {
			var p pnpPackage
			if err := json.Unmarshal(r.rest, &p); err != nil {
				return nil, err
			}
			locator := named.name + "@" + r.name
			n := node{uses: pnpUses(p.Dependencies)}
			switch {
			case strings.HasPrefix(r.name, "workspace:"), named.name == "": // the root has a second entry, without a name
				dir := path.Clean(p.Location)
				s.nodes[directory(dir)] = n
				s.nodes[locator] = node{uses: []string{directory(dir)}}
			default:
				n.name = withoutVirtual(locator)
				n.identity = sums[n.name]
				s.nodes[locator] = n
			}
		}
	}
	return s, nil
}

// pnpUses returns the locators of dependencies: a reference of the same name, or a name and a reference. Peers
// that nobody provides have none.
func pnpUses(list []pnpPair) (out []string) {
	for _, d := range list {
		var reference string
		var other pnpPair
		if json.Unmarshal(d.rest, &reference) == nil {
			if reference != "" {
				out = append(out, d.name+"@"+reference)
			}
		} else if json.Unmarshal(d.rest, &other) == nil && json.Unmarshal(other.rest, &reference) == nil {
			out = append(out, other.name+"@"+reference)
		}
	}
	return out
}

// pnpData returns the data: the whole text, or the string that the loader's script has.
func pnpData(text string) (string, error) {
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		return text, nil
	}
	_, rest, ok := strings.Cut(text, "RAW_RUNTIME_STATE =\n'")
	var b strings.Builder
	for i := 0; ok && i < len(rest); i++ {
		switch c := rest[i]; {
		case c == '\'':
			return b.String(), nil
		case c != '\\':
			b.WriteByte(c)
		case i+1 < len(rest):
			if i++; rest[i] != '\n' { // a backslash continues the string in the next line
				b.WriteByte(rest[i])
			}
		}
	}
	return "", errors.New("it has no data of packages")
}
