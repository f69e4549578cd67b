package manifest

import (
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
	"golang.org/x/mod/semver"

	"grayloft.example/grayloft/internal/core/edit"
)

// PinsFile decides the versions of packages: a table for each ecosystem, with a
// version for each package, or { version, below, why }.
const PinsFile = "pins.toml"

// Pin is what is decided about one package.
type Pin struct {
	Version string // empty: nothing
	Below   string // the first version that must not be used; empty: none
	Why     string

	Line, Column int // of the package's name
	written      tomlValue
}

// Pins are the decisions, by ecosystem and package.
type Pins map[string]map[string]Pin

// ReadPins reads the text of [PinsFile]. The error says what is wrong in it.
func ReadPins(text string) (Pins, error) {
	var raw map[string]map[string]any
	if err := toml.Unmarshal([]byte(text), &raw); err != nil {
		return nil, fmt.Errorf("%s: %w", PinsFile, err)
	}
	out := Pins{}
	for table, list := range raw {
		if !slices.Contains(Names(), table) {
			return nil, fmt.Errorf("%s: [%s] is not known; the tables are %s", PinsFile, table, strings.Join(Names(), ", "))
		}
		out[table] = map[string]Pin{}
		for name, value := range list {
			p, err := readPin(value)
			if err != nil {
				return nil, fmt.Errorf("%s: [%s] %s: %w", PinsFile, table, name, err)
			}
			out[table][name] = p
		}
	}
	out.locate(text)
	return out, nil
}

func readPin(value any) (p Pin, err error) {
	switch v := value.(type) {
	case string:
		p.Version = v
	case map[string]any:
		for key, one := range v {
			text, ok := one.(string)
			to, known := map[string]*string{"version": &p.Version, "below": &p.Below, "why": &p.Why}[key]
			if !ok || !known {
				return p, fmt.Errorf("write it like { version = \"1.4.0\", below = \"2\", why = \"…\" }")
			}
			*to = text
		}
	default:
		return p, fmt.Errorf("write it like \"1.4.0\", or { version = \"1.4.0\", below = \"2\", why = \"…\" }")
	}
	for _, version := range []string{p.Version, p.Below} {
		if version != "" && !semver.IsValid(Canonical(version)) {
			return p, fmt.Errorf("%q is not a version such as 1.4.0", version)
		}
	}
	if p.Below != "" && p.Why == "" {
		return p, fmt.Errorf("a hold needs a why")
	}
	return p, nil
}

// locate notes where the pins are, and where their versions are written.
func (p Pins) locate(text string) {
	values, _ := tomlValues(text)
	for _, v := range values {
		if len(v.path) < 2 {
			continue
		}
		pin, ok := p[v.path[0]][v.path[1]]
		if !ok {
			continue
		}
		if len(v.path) == 2 {
			pin.Line, pin.Column = edit.Place(text, v.key[0])
		}
		if v.kind == unstable.String && (len(v.path) == 2 || v.path[2] == "version") {
			pin.written = v
		}
		p[v.path[0]][v.path[1]] = pin
	}
}

// SetVersion returns the edits that decide for another version.
func (p Pin) SetVersion(text, version string) []edit.Edit {
	at := p.written
	if at.to <= at.from {
		return nil
	}
	quote := text[at.from : at.from+1]
	return []edit.Edit{edit.Between(PinsFile, text, at.from, at.to, quote+version+quote)}
}

// Canonical returns the version that a requirement begins with, in the form of
// package semver; what is no version stays invalid.
func Canonical(requirement string) string {
	v := strings.TrimLeft(requirement, "^~>=v ")
	if i := strings.IndexAny(v, " ,|"); i >= 0 {
		v = v[:i]
	}
	return "v" + v
}
