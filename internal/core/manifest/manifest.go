// Package manifest reads which packages of others the projects of a repository
// declare, and which ones their sources use: one [Ecosystem] for each package system.
// It returns entries with their places, and the edits that would change them. It judges
// nothing and changes nothing.
package manifest

import (
	"io/fs"
	"maps"
	"path"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/edit"
	"grayloft.example/grayloft/internal/core/imports"
)

// Ecosystem reads the manifests of one package system. What it returns follows these
// rules, which the suite of package check tests for each of them:
//   - An entry has the place of its name, and edits that change nothing else.
//   - A use is what code imports; comments, strings and the system's own library are
//     none, and neither are modules of the same package.
//   - A manifest that cannot be parsed is left out.
//   - What cannot be told counts as used: a finding that is wrong costs more than one
//     that is missing.
type Ecosystem interface {
	Name() string // as in pins.toml
	Manifests(r *Repo) []Manifest
}

// Ecosystems are all of them.
var Ecosystems = []Ecosystem{golang{}, npm{}, python{}, cargo{}}

// Names returns the names of all ecosystems.
func Names() (out []string) {
	for _, e := range Ecosystems {
		out = append(out, e.Name())
	}
	return out
}

// Read reads the manifests of all ecosystems.
func Read(r *Repo) (out []Manifest) {
	for _, e := range Ecosystems {
		for _, m := range e.Manifests(r) {
			m.Ecosystem = e.Name()
			for i := range m.Entries {
				if m.Entries[i].File == "" {
					m.Entries[i].File = m.File
				}
			}
			out = append(out, m)
		}
	}
	return out
}

// Manifest is what one package declares, and what its sources use.
type Manifest struct {
	Ecosystem string
	File      string // the main one, if there are several
	Entries   []Entry
	Uses      []Use
	Misplaced []Misplaced
	Words     Words
	Bundled   bool // all of it is declared for development: a bundler ships what is imported

	mentioned func(name string) bool
}

// Words are how an ecosystem speaks of its manifests.
type Words struct {
	Shipped, Development string // the lists; Development: empty if there is none
	Add                  string // how a package is added; %s stands for its name
}

// Scope is for whom an entry is declared.
type Scope int

// The scopes.
const (
	Shipped Scope = iota
	Development
	Indirect // needed by another package only
	Other    // peers, optional ones, tools: for a reason that sources do not tell
)

// Entry is a package that a manifest declares.
type Entry struct {
	File         string
	Name         string
	Scope        Scope
	Version      string // the requirement, as it is written; empty if there is none
	Line, Column int
	Remove       []edit.Edit // that take it out
	Move         []edit.Edit // that put it into the other scope
	Local        bool        // it is a directory of the repository, whatever its version
	Advice       string      // what to do if nothing imports it; empty: remove it

	setVersion func(version string) []edit.Edit
	written    string // with its name, in a manifest that lists names and values
}

// SetVersion returns the edits that write another version, in the form that the entry
// has; none if that cannot be done.
func (e Entry) SetVersion(version string) []edit.Edit {
	if e.setVersion == nil {
		return nil
	}
	return e.setVersion(version)
}

// Use is a package that a source file imports.
type Use struct {
	Name         string
	File         string
	Line, Column int
	Test         bool   // of a test, or of a file that is not shipped
	Types        bool   // only of types
	Unclear      bool   // whether the file is shipped cannot be told
	Advice       string // how it is declared; empty: as any other one
	Certain      bool   // it has to be declared: no program wrote it, and the file needs it
}

// Misplaced is an entry that is out of order in its list.
type Misplaced struct {
	File         string
	Name         string
	Before       string // the entry that it belongs before; empty: none
	After        string // otherwise the one that it belongs behind
	Line, Column int
	Edits        []edit.Edit
}

// Entry returns the entry of a package; nil if there is none.
func (m *Manifest) Entry(name string) *Entry {
	i := slices.IndexFunc(m.Entries, func(e Entry) bool { return e.Name == name })
	if i < 0 {
		return nil
	}
	return &m.Entries[i]
}

// IsDeclaredTwice tells whether a package is in another list, too: as a peer, such as one
// that is installed for tests.
func (m *Manifest) IsDeclaredTwice(e Entry) bool {
	return slices.ContainsFunc(m.Entries, func(o Entry) bool { return o.Name == e.Name && o.Scope != e.Scope })
}

// Mentions tells whether a package is used without an import: run, configured, or
// named in another way.
func (m *Manifest) Mentions(name string) bool { return m.mentioned != nil && m.mentioned(name) }

// Users are the first files that import a package: one that is shipped and needs it,
// one that is not shipped, one that uses only its types, and one that a program wrote, that
// does without, or of which it cannot be told. Each is nil if there is none.
type Users struct{ Code, Test, Types, Uncertain *Use }

// Users returns who imports a package.
func (m *Manifest) Users(name string) (u Users) {
	for i := range m.Uses {
		use := &m.Uses[i]
		if use.Name != name {
			continue
		}
		of := &u.Code
		switch {
		case use.Unclear:
			of = &u.Uncertain
		case use.Test:
			of = &u.Test
		case use.Types:
			of = &u.Types
		case !use.Certain:
			of = &u.Uncertain
		}
		if *of == nil {
			*of = use
		}
	}
	return u
}

// None tells whether nothing imports it.
func (u Users) None() bool { return u == Users{} }

// Repo is a repository as ecosystems see it. It is used by one goroutine.
type Repo struct {
	FS       fs.FS
	Files    []string // from the root, sorted
	Imports  *imports.Reader
	Commands string // what the repository runs, as text
	// Provides are the modules of packages whose names differ, by ecosystem and
	// package, beside those that are known.
	Provides map[string]map[string][]string

	texts     map[string]string
	installed map[string]bool
	byBase    map[string][]string
}

// text returns the content of a file, and keeps it; empty if it cannot be read.
func (r *Repo) text(name string) string {
	text, ok := r.texts[name]
	if !ok {
		if r.texts == nil {
			r.texts = map[string]string{}
		}
		text = r.fresh(name)
		r.texts[name] = text
	}
	return text
}

// fresh returns the content of a file without keeping it.
func (r *Repo) fresh(name string) string {
	data, err := fs.ReadFile(r.FS, name)
	if err != nil {
		return ""
	}
	return string(data)
}

// inParallel does something with each file, on all processors.
func (r *Repo) inParallel(files []string, do func(file string)) {
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	const share = 64 // files that a thread takes at a time
	for part := range slices.Chunk(files, share) {
		group.Go(func() error {
			for _, f := range part {
				do(f)
			}
			return nil
		})
	}
	_ = group.Wait() // none of them fails
}

// named returns the files of that base name that are not foreign.
func (r *Repo) named(base string) []string {
	if r.byBase == nil {
		r.byBase = map[string][]string{}
		for _, f := range r.Files {
			if !imports.IsForeign(f) {
				r.byBase[path.Base(f)] = append(r.byBase[path.Base(f)], f)
			}
		}
	}
	return r.byBase[base]
}

// governed returns the files that are wanted and not foreign by the directory around
// them, of those given, that is innermost.
func (r *Repo) governed(dirs map[string]bool, wanted func(string) bool) map[string][]string {
	out := map[string][]string{}
	for _, f := range r.Files {
		if !wanted(f) || imports.IsForeign(f) {
			continue
		}
		dir := path.Dir(f)
		for !dirs[dir] && dir != "." {
			dir = path.Dir(dir)
		}
		if dirs[dir] {
			out[dir] = append(out[dir], f)
		}
	}
	return out
}

func dirsOf(files []string) map[string]bool {
	out := map[string]bool{}
	for _, f := range files {
		out[path.Dir(f)] = true
	}
	return out
}

func isBelow(dir, file string) bool { return dir == "." || strings.HasPrefix(file, dir+"/") }

// hasWord tells whether a text has a word that is not part of a longer one.
func hasWord(text, word string) bool {
	for at := 0; ; {
		i := strings.Index(text[at:], word)
		if i < 0 {
			return false
		}
		i += at
		end := i + len(word)
		if (i == 0 || !isNameByte(text[i-1])) && (end == len(text) || !isNameByte(text[end])) {
			return true
		}
		at = i + 1
	}
}

func isNameByte(c byte) bool {
	return c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
