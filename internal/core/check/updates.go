package check

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/mod/semver"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/manifest"
)

// Package is a package of an ecosystem.
type Package struct{ Ecosystem, Name string }

// Updatable returns the packages from elsewhere that manifests or pins.toml name with a
// version, sorted.
func (in *Inspection) Updatable() []Package {
	set := map[Package]bool{}
	for _, m := range in.manifests {
		for _, e := range m.Entries {
			if isUpdatable(e) {
				set[Package{m.Ecosystem, e.Name}] = true
			}
		}
	}
	for ecosystem, list := range in.pins {
		for name, p := range list {
			if p.Version != "" {
				set[Package{ecosystem, name}] = true
			}
		}
	}
	return slices.SortedFunc(maps.Keys(set), func(a, b Package) int {
		return cmp.Or(strings.Compare(a.Ecosystem, b.Ecosystem), strings.Compare(a.Name, b.Name))
	})
}

func isUpdatable(e manifest.Entry) bool {
	return hasVersion(e) && !e.Local && e.Scope != manifest.Indirect
}

// updateAvailable finds packages with a newer version, of those that registries were
// asked about: where pins.toml decides it, there, and otherwise in the manifests.
func updateAvailable(in *Inspection) (out []Finding) {
	for ecosystem, list := range in.pins {
		for name, p := range list {
			says, newest := newer(p, in.Versions[Package{ecosystem, name}], p.Version)
			if p.Version == "" || newest == "" {
				continue
			}
			f := at(
				decl.Pos{File: manifest.PinsFile, Line: p.Line, Col: p.Column},
				"",
				name,
				"%q is pinned at %s, %s",
				name,
				p.Version,
				says,
			)
			f.Edits = p.SetVersion(in.text(manifest.PinsFile), newest)
			out = append(out, f)
		}
	}
	for _, m := range in.manifests {
		for _, e := range m.Entries {
			p := in.pins[m.Ecosystem][e.Name]
			says, newest := newer(p, in.Versions[Package{m.Ecosystem, e.Name}], e.Version)
			if p.Version != "" || newest == "" || !isUpdatable(e) {
				continue
			}
			f := m.at(e, e.Name, "%q is %s, %s", e.Name, e.Version, says)
			f.Edits = e.SetVersion(newest)
			out = append(out, f)
		}
	}
	return out
}

// newer returns the newest of some versions that comes after the current one and that a
// hold allows, and says so; nothing if there is none. Versions before a release count
// only where the current one is such a version.
func newer(p manifest.Pin, versions []string, current string) (says, newest string) {
	best, held := manifest.Canonical(current), ""
	for _, version := range versions {
		v := manifest.Canonical(version)
		switch {
		case !semver.IsValid(v) || semver.Compare(v, best) <= 0:
		case semver.Prerelease(v) != "" && semver.Prerelease(manifest.Canonical(current)) == "":
		case p.Below != "" && semver.Compare(v, manifest.Canonical(p.Below)) >= 0:
			if held == "" || semver.Compare(v, manifest.Canonical(held)) > 0 {
				held = version
			}
		default:
			best, newest = v, strings.TrimPrefix(v, "v")
		}
	}
	if newest == "" {
		return "", ""
	}
	says = newest + " is available"
	if held != "" {
		says += fmt.Sprintf("; %s is held back: %s", strings.TrimPrefix(held, "v"), p.Why)
	}
	return says, newest
}
