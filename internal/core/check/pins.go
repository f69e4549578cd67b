package check

import (
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/mod/semver"

	"grayloft.example/grayloft/internal/core/manifest"
)

// PinsFile decides the versions of packages: a table for each ecosystem, with a
// version for each package, or { version, below, why }.
const PinsFile = "pins.toml"

// pin is what is decided about one package.
type pin struct {
	version string // empty: nothing
	below   string // the first version that must not be used; empty: none
	why     string
}

// ecosystemNames are the tables that pins.toml may have.
var ecosystemNames = manifest.Names()

// readPins reads pins.toml. The error says what is wrong in it.
func readPins(text string) (map[string]map[string]pin, error) {
	var raw map[string]map[string]any
	if err := toml.Unmarshal([]byte(text), &raw); err != nil {
		return nil, fmt.Errorf("%s: %w", PinsFile, err)
	}
	out := map[string]map[string]pin{}
	for table, list := range raw {
		if !slices.Contains(ecosystemNames, table) {
			return nil, fmt.Errorf("%s: [%s] is not known; the tables are %s", PinsFile, table, strings.Join(ecosystemNames, ", "))
		}
		out[table] = map[string]pin{}
		for name, value := range list {
			p, err := readPin(value)
			if err != nil {
				return nil, fmt.Errorf("%s: [%s] %s: %w", PinsFile, table, name, err)
			}
			out[table][name] = p
		}
	}
	return out, nil
}

func readPin(value any) (p pin, err error) {
	switch v := value.(type) {
	case string:
		p.version = v
	case map[string]any:
		for key, one := range v {
			text, ok := one.(string)
			to, known := map[string]*string{"version": &p.version, "below": &p.below, "why": &p.why}[key]
			if !ok || !known {
				return p, fmt.Errorf("write it like { version = \"1.4.0\", below = \"2\", why = \"…\" }")
			}
			*to = text
		}
	default:
		return p, fmt.Errorf("write it like \"1.4.0\", or { version = \"1.4.0\", below = \"2\", why = \"…\" }")
	}
	for _, version := range []string{p.version, p.below} {
		if version != "" && !semver.IsValid(canonical(version)) {
			return p, fmt.Errorf("%q is not a version such as 1.4.0", version)
		}
	}
	if p.below != "" && p.why == "" {
		return p, fmt.Errorf("a hold needs a why")
	}
	return p, nil
}

// canonical returns the version that a requirement begins with, in the form of
// package semver; what is no version stays invalid.
func canonical(requirement string) string {
	v := strings.TrimLeft(requirement, "^~>=v ")
	if i := strings.IndexAny(v, " ,|"); i >= 0 {
		v = v[:i]
	}
	return "v" + v
}

// versioned are the entries of a package in all manifests of an ecosystem.
type versioned struct {
	m *declaring
	e manifest.Entry
}

// pinned goes through all entries with a version, with what is decided about them.
func (in *inspection) pinned(each func(m *declaring, e manifest.Entry, p pin)) {
	pins, err := readPins(in.text(PinsFile))
	if err != nil {
		return // PinsProblem says so
	}
	list := in.manifests
	for i := range list {
		for _, e := range list[i].Entries {
			if p, ok := pins[list[i].Ecosystem][e.Name]; ok && semver.IsValid(canonical(e.Version)) &&
				e.Scope != manifest.Indirect {
				each(&list[i], e, p)
			}
		}
	}
}

// PinsProblem tells what is wrong in pins.toml; nil if nothing is, or there is
// none.
func PinsProblem(r *Repo) error {
	in := &inspection{Repo: r}
	_, err := readPins(in.text(PinsFile))
	return err
}

// versionInManifest finds versions that pins.toml decides otherwise.
func versionInManifest(in *inspection) (out []Finding) {
	in.pinned(func(m *declaring, e manifest.Entry, p pin) {
		if p.version == "" || canonical(e.Version) == canonical(p.version) {
			return
		}
		f := m.at(e, e.Name, "%s of %q is written here, and %s says %s", e.Version, e.Name, PinsFile, p.version)
		f.Edits = e.SetVersion(p.version)
		out = append(out, f)
	})
	return out
}

// versionHeld finds versions that a hold does not allow.
func versionHeld(in *inspection) (out []Finding) {
	in.pinned(func(m *declaring, e manifest.Entry, p pin) {
		if p.below != "" && semver.Compare(canonical(e.Version), canonical(p.below)) >= 0 {
			out = append(
				out,
				m.at(e, e.Name, "%s of %q is beyond the hold in %s, below %s: %s", e.Version, e.Name, PinsFile, p.below, p.why),
			)
		}
	})
	return out
}

// versionDiffers finds packages that manifests require at several versions, unless
// pins.toml decides: at each place but those with the newest.
func versionDiffers(in *inspection) (out []Finding) {
	pins, _ := readPins(in.text(PinsFile))
	byName := map[[2]string][]versioned{}
	list := in.manifests
	for i := range list {
		m := &list[i]
		for _, e := range m.Entries {
			if e.Scope != manifest.Other && e.Scope != manifest.Indirect && pins[m.Ecosystem][e.Name].version == "" &&
				semver.IsValid(canonical(e.Version)) {
				byName[[2]string{m.Ecosystem, e.Name}] = append(byName[[2]string{m.Ecosystem, e.Name}], versioned{m, e})
			}
		}
	}
	for _, all := range byName {
		newest := slices.MaxFunc(
			all,
			func(a, b versioned) int { return semver.Compare(canonical(a.e.Version), canonical(b.e.Version)) },
		)
		for _, v := range all {
			if canonical(v.e.Version) != canonical(newest.e.Version) {
				out = append(out, v.m.at(v.e, v.e.Name, "%q is %s here and %s in %s:%d: use one version, or decide it in %s",
					v.e.Name, v.e.Version, newest.e.Version, newest.e.File, newest.e.Line, PinsFile))
			}
		}
	}
	return out
}
