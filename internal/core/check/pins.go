package check

import (
	"slices"

	"golang.org/x/mod/semver"

	"grayloft.example/grayloft/internal/core/manifest"
)

// versioned are the entries of a package in all manifests of an ecosystem.
type versioned struct {
	m *declaring
	e manifest.Entry
}

func hasVersion(e manifest.Entry) bool { return semver.IsValid(manifest.Canonical(e.Version)) }

// pinned goes through all entries with a version, with what is decided about them.
func (in *Inspection) pinned(each func(m *declaring, e manifest.Entry, p manifest.Pin)) {
	for i := range in.manifests {
		m := &in.manifests[i]
		for _, e := range m.Entries {
			if p, ok := in.pins[m.Ecosystem][e.Name]; ok && hasVersion(e) && e.Scope != manifest.Indirect {
				each(m, e, p)
			}
		}
	}
}

// PinsProblem tells what is wrong in pins.toml; nil if nothing is, or there is
// none.
func PinsProblem(r *Repo) error {
	_, err := manifest.ReadPins((&Inspection{Repo: r}).fresh(manifest.PinsFile))
	return err
}

// versionInManifest finds versions that pins.toml decides otherwise.
func versionInManifest(in *Inspection) (out []Finding) {
	in.pinned(func(m *declaring, e manifest.Entry, p manifest.Pin) {
		if p.Version == "" || manifest.Canonical(e.Version) == manifest.Canonical(p.Version) {
			return
		}
		f := m.at(e, e.Name, "%q is %s here, and %s says %s", e.Name, e.Version, manifest.PinsFile, p.Version)
		f.Edits = e.SetVersion(p.Version)
		out = append(out, f)
	})
	return out
}

// versionHeld finds versions that a hold does not allow.
func versionHeld(in *Inspection) (out []Finding) {
	in.pinned(func(m *declaring, e manifest.Entry, p manifest.Pin) {
		if p.Below != "" && semver.Compare(manifest.Canonical(e.Version), manifest.Canonical(p.Below)) >= 0 {
			out = append(out, m.at(e, e.Name,
				"%q is %s here, and %s holds it below %s: %s", e.Name, e.Version, manifest.PinsFile, p.Below, p.Why))
		}
	})
	return out
}

// versionDiffers finds packages that manifests require at several versions, unless
// pins.toml decides: at each place but those with the newest.
func versionDiffers(in *Inspection) (out []Finding) {
	byName := map[Package][]versioned{}
	for i := range in.manifests {
		m := &in.manifests[i]
		for _, e := range m.Entries {
			isPinned := in.pins[m.Ecosystem][e.Name].Version != ""
			if e.Scope != manifest.Other && e.Scope != manifest.Indirect && !isPinned && !e.Local && hasVersion(e) {
				byName[Package{m.Ecosystem, e.Name}] = append(byName[Package{m.Ecosystem, e.Name}], versioned{m, e})
			}
		}
	}
	for _, all := range byName {
		newest := slices.MaxFunc(all, func(a, b versioned) int {
			return semver.Compare(manifest.Canonical(a.e.Version), manifest.Canonical(b.e.Version))
		})
		for _, v := range all {
			if manifest.Canonical(v.e.Version) != manifest.Canonical(newest.e.Version) {
				out = append(out, v.m.at(v.e, v.e.Name, "%q is %s here and %s in %s:%d: use one version, or decide it in %s",
					v.e.Name, v.e.Version, newest.e.Version, newest.e.File, newest.e.Line, manifest.PinsFile))
			}
		}
	}
	return out
}
