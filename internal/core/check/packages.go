package check

import (
	"cmp"
	"fmt"
	"path"
	"slices"

	"grayloft.example/grayloft/internal/core/decl"
)

// manifest is what one manifest declares, and what the sources that belong to it
// use. Each ecosystem reads its own.
type manifest struct {
	ecosystem string // as in pins.toml
	file      string
	project   string
	entries   []entry
	uses      []use
	mentioned func(name string) bool // whether a tool of that name is run or configured
	words     words
	bundled   bool // all of it is declared for development: a bundler ships what is imported
}

// words are how an ecosystem speaks of its manifests.
type words struct {
	shipped, development string // the lists; development: empty if there is none
	add                  string // how a package is added
}

// scope is for whom an entry is declared.
type scope int

const (
	shipped scope = iota
	development
	indirect // needed by another package only
	other    // peers, optional ones, tools: for a reason that sources do not tell
)

// entry is a package that a manifest declares.
type entry struct {
	name         string
	scope        scope
	version      string
	written      string                      // with its name, in a manifest that lists names and values
	setVersion   func(version string) []Edit // that write another version, in the manifest's form
	line, column int
	remove       []Edit // that take it out
	move         []Edit // that put it into the other scope
	why          string // what to do if nothing imports it; empty: remove it
}

// use is a package that a source file imports.
type use struct {
	name         string
	file         string
	line, column int
	test         bool // of a test, or only of types
	generated    bool // by a program: it is no evidence that something is missing
}

// ecosystems are the readers of manifests.
var ecosystems = []func(*inspection) []manifest{goManifests, npmManifests}

func (in *inspection) manifests() []manifest {
	if !in.manifestsRead {
		in.manifestsRead = true
		for _, read := range ecosystems {
			in.manifestList = append(in.manifestList, read(in)...)
		}
	}
	return in.manifestList
}

func (m *manifest) entry(name string) *entry {
	i := slices.IndexFunc(m.entries, func(e entry) bool { return e.name == name })
	if i < 0 {
		return nil
	}
	return &m.entries[i]
}

func (m *manifest) at(e entry, subject, format string, args ...any) Finding {
	return at(decl.Pos{File: m.file, Line: e.line, Col: e.column}, m.project, subject, format, args...)
}

// dependencyUndeclared finds packages that are imported and not in the manifest.
func dependencyUndeclared(in *inspection) (out []Finding) {
	for _, m := range in.manifests() {
		seen := map[string]bool{}
		for _, u := range m.uses {
			if seen[u.name] || u.generated || m.entry(u.name) != nil {
				continue
			}
			seen[u.name] = true
			out = append(out, at(
				decl.Pos{File: u.file, Line: u.line, Col: u.column},
				m.project,
				u.name,
				"%q is imported and not in %s: %s; which version, a person decides",
				u.name,
				m.file,
				fmt.Sprintf(m.words.add, u.name),
			))
		}
	}
	return out
}

// dependencyUnused finds packages that are in the manifest and never used.
func dependencyUnused(in *inspection) (out []Finding) {
	for _, m := range in.manifests() {
		for _, e := range m.entries {
			code, test := m.users(e.name)
			if e.scope == indirect || e.scope == other || code != nil || test != nil || m.mentioned(e.name) {
				continue
			}
			f := m.at(e, e.name, "nothing imports %q: %s", e.name, cmp.Or(e.why, "remove it"))
			f.Edits = e.remove
			out = append(out, f)
		}
	}
	return out
}

// users returns the first files that import a package: one that is shipped, and one
// that is not.
func (m *manifest) users(name string) (code, test *use) {
	for i, u := range m.uses {
		switch {
		case u.name != name:
		case u.test && test == nil:
			test = &m.uses[i]
		case !u.test && code == nil:
			code = &m.uses[i]
		}
	}
	return code, test
}

// dependencyScope finds packages that are declared for others than those who use
// them.
func dependencyScope(in *inspection) (out []Finding) {
	for _, m := range in.manifests() {
		for _, e := range m.entries {
			code, test := m.users(e.name)
			says := ""
			switch {
			case e.scope == indirect && (code != nil || test != nil):
				says = fmt.Sprintf("%q is imported by %s: remove // indirect", e.name, cmp.Or(code, test).file)
			case m.words.development == "":
			case e.scope == shipped && code == nil && test != nil && !m.mentioned(e.name):
				says = fmt.Sprintf("%q is used only in %s: move it to %s", e.name, path.Base(test.file), m.words.development)
			case e.scope == development && code != nil && !m.bundled:
				says = fmt.Sprintf(
					"%q is used in %s, which is shipped: move it to %s",
					e.name,
					path.Base(code.file),
					m.words.shipped,
				)
			}
			if says != "" {
				f := m.at(e, e.name, "%s", says)
				f.Edits = e.move
				out = append(out, f)
			}
		}
	}
	return out
}
