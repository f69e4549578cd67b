package manifest

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"grayloft.example/grayloft/internal/core/edit"
	"grayloft.example/grayloft/internal/core/pattern"
)

// cargo reads Cargo packages and workspaces:
// https://doc.rust-lang.org/cargo/reference/manifest.html.
type cargo struct{}

func (cargo) Name() string { return "cargo" }

// crate is a Cargo.toml.
type crate struct {
	dir, file string
	names     []string // of its packages and libraries, as code names them
	entries   []Entry
	misplaced []Misplaced
	known     map[string]string // how code names an entry → its name
}

// rustStandard are the crates that every program has.
var rustStandard = []string{"std", "core", "alloc", "proc_macro", "test", "crate", "self", "super"}

var rustTest = pattern.New(`(^|/)(tests?|benches|examples)/|(^|/)tests?\.rs$`)

func (cargo) Manifests(r *Repo) (out []Manifest) {
	var all []*crate
	for _, f := range r.named("Cargo.toml") {
		if c, ok := readCrate(f, r.text(f)); ok {
			all = append(all, c)
		}
	}
	own := map[string]bool{}
	for _, c := range all {
		for _, n := range c.names {
			own[n] = true
		}
	}
	files := r.governed(dirsOf(r.named("Cargo.toml")), func(f string) bool { return strings.HasSuffix(f, ".rs") })
	for _, c := range all {
		m := Manifest{
			File: c.file, Entries: c.entries, Misplaced: c.misplaced, mentioned: r.rustMentions(c, files[c.dir]),
			Words: Words{Shipped: "[dependencies]", Development: "[dev-dependencies]", Add: "add it with cargo add %s"},
		}
		defined := maps.Clone(own)
		for _, f := range files[c.dir] {
			for _, d := range r.Imports.Of(f).Defines {
				defined[d] = true
			}
		}
		tests := r.rustTests(files[c.dir])
		for _, f := range files[c.dir] {
			isTest := slices.ContainsFunc(tests, func(at string) bool { return f == at+".rs" || strings.HasPrefix(f, at+"/") })
			m.Uses = append(m.Uses, r.rustUses(c, defined, f, isTest)...)
		}
		out = append(out, m)
	}
	return out
}

func crateName(name string) string { return strings.ReplaceAll(name, "-", "_") }

// cargoTable matches the path of a dependency: in a table of a package, of a target, or
// of a workspace.
var cargoTable = pattern.New(
	`^((?:target\x00[^\x00]*\x00|workspace\x00)?(dependencies|dev-dependencies|build-dependencies))\x00([^\x00]+)(?:\x00(.+))?$`,
)

// cargoEntry is a dependency as it is written: on a line, on several, or in a table of
// its own.
type cargoEntry struct {
	table, list, name string
	keys              map[string]tomlValue
	from, to          int // its lines
	pieces            int
	hasTable          bool
}

// readCrate reads a manifest with the places of its entries.
func readCrate(file, text string) (*crate, bool) {
	values, ok := tomlValues(text)
	if !ok {
		return nil, false
	}
	c := &crate{dir: path.Dir(file), file: file, known: map[string]string{}}
	var list []*cargoEntry
	for _, v := range values {
		where := strings.Join(v.path, "\x00")
		if where == "package\x00name" || where == "lib\x00name" {
			c.names = append(c.names, crateName(v.text))
		}
		m := cargoTable.FindStringSubmatch(where)
		if m == nil {
			continue
		}
		i := slices.IndexFunc(list, func(e *cargoEntry) bool { return e.table == m[1] && e.name == m[3] })
		if i < 0 {
			i = len(list)
			list = append(list, &cargoEntry{table: m[1], list: m[2], name: m[3], keys: map[string]tomlValue{}})
		}
		list[i].add(text, m[4], v)
	}
	for _, e := range list {
		c.entries = append(c.entries, e.entry(file, text, list))
		c.known[crateName(e.name)] = e.name
	}
	c.misplaced = cargoOrder(file, text, list)
	return c, true
}

func (e *cargoEntry) add(text, key string, v tomlValue) {
	from, to := lines(text, v.key[0], max(v.to, v.key[1]))
	if e.pieces == 0 {
		e.from = from
	}
	if from >= e.to {
		e.pieces++
	}
	e.to = max(e.to, to)
	e.hasTable = e.hasTable || v.kind == unstable.Table
	e.keys[key] = v
}

// isLine tells whether the entry is one piece that can be removed or moved as it is.
func (e *cargoEntry) isLine(text string) bool {
	return e.pieces == 1 && !e.hasTable && strings.HasSuffix(text[e.from:e.to], "\n")
}

func (e *cargoEntry) entry(file, text string, all []*cargoEntry) Entry {
	out := Entry{File: file, Name: e.name}
	out.Line, out.Column = edit.Place(text, e.from+len(text[e.from:e.to])-len(strings.TrimLeft(text[e.from:e.to], " \t[")))
	switch {
	case e.table == "dependencies" && e.keys["optional"].text != "true":
	case e.table == "dev-dependencies":
		out.Scope = Development
	default:
		out.Scope = Other
	}
	version, ok := e.keys["version"]
	if !ok {
		version = e.keys[""]
	}
	if version.kind == unstable.String {
		out.Version = version.text
		out.setVersion = func(to string) []edit.Edit {
			written := text[version.from:version.to]
			prefix := version.text[:len(version.text)-len(strings.TrimLeft(version.text, "=^~>< "))]
			return []edit.Edit{edit.Between(file, text, version.from, version.to, written[:1]+prefix+to+written[:1])}
		}
	}
	if e.isLine(text) {
		out.Remove = []edit.Edit{edit.Between(file, text, e.from, e.to, "")}
		out.Move = e.moved(file, text, all)
	}
	if len(e.keys["features"].items) > 0 {
		out.Advice = "remove it, or allow it if it is there for its features"
	}
	return out
}

// moved returns the edits that put the lines of an entry into the table of the other
// scope; none if there is no such table, or nothing in it.
func (e *cargoEntry) moved(file, text string, all []*cargoEntry) []edit.Edit {
	target := map[string]string{"dependencies": "dev-dependencies", "dev-dependencies": "dependencies"}[e.table]
	var last *cargoEntry
	place := -1
	for _, o := range all {
		if o.table != target || !o.isLine(text) {
			continue
		}
		if place < 0 && comesBefore(e.name, o.name) {
			place = o.from
		}
		last = o
	}
	if last == nil {
		return nil
	}
	if place < 0 {
		place = last.to
	}
	return []edit.Edit{
		edit.Between(file, text, e.from, e.to, ""),
		edit.Between(file, text, place, place, text[e.from:e.to]),
	}
}

func cargoOrder(file, text string, list []*cargoEntry) (out []Misplaced) {
	tables := map[string][]listed{}
	for _, e := range list {
		if !e.hasTable {
			tables[e.table] = append(tables[e.table], listed{name: e.name, from: e.from, to: e.to, fixed: !e.isLine(text)})
		}
	}
	for _, name := range sortedKeys(tables) {
		out = append(out, misplaced(file, text, tables[name])...)
	}
	return out
}

// rustTests returns the modules of files that are compiled for tests only, as their paths
// without an ending.
func (r *Repo) rustTests(files []string) (out []string) {
	for _, f := range files {
		dir := path.Dir(f)
		if base := path.Base(f); base != "mod.rs" && base != "lib.rs" && base != "main.rs" {
			dir = strings.TrimSuffix(f, ".rs")
		}
		for _, m := range r.Imports.Of(f).TestModules {
			out = append(out, path.Join(dir, m))
		}
	}
	return out
}

// rustUses returns the crates that a file uses, by the names of their entries or, if
// there is none, as code names them. Crates of the language and of the repository, and
// modules, are none.
func (r *Repo) rustUses(c *crate, defined map[string]bool, file string, isTest bool) (out []Use) {
	src := r.Imports.Of(file)
	within := strings.TrimPrefix(file, c.dir+"/")
	for _, x := range src.Imports {
		name := c.known[x.Spec]
		if slices.Contains(rustStandard, x.Spec) || name == "" && (defined[x.Spec] || r.isProvidedRust(c, x.Spec)) {
			continue
		}
		out = append(out, Use{
			Name: cmp.Or(name, x.Spec), File: file, Line: x.Line, Column: x.Column, Certain: !src.Generated && !x.Optional,
			Test: x.Test || isTest || rustTest.MatchString(within),
		})
	}
	return out
}

// isProvidedRust tells whether an entry is known to provide a crate of another name.
func (r *Repo) isProvidedRust(c *crate, spec string) bool {
	for name, modules := range r.Provides["cargo"] {
		if c.known[crateName(name)] != "" && slices.Contains(modules, spec) {
			return true
		}
	}
	return false
}

// rustMentions returns whether a crate is used without a use declaration: by a path,
// for its features, or linked.
func (r *Repo) rustMentions(c *crate, sources []string) func(string) bool {
	mentioned := map[string]bool{}
	for _, f := range sources {
		src := r.Imports.Of(f)
		for _, m := range src.Mentions {
			mentioned[c.known[m]] = true
		}
		for name, modules := range r.Provides["cargo"] {
			for _, x := range src.Imports {
				mentioned[name] = mentioned[name] || slices.Contains(modules, x.Spec)
			}
		}
	}
	return func(name string) bool { return mentioned[name] || strings.HasSuffix(name, "-sys") }
}
