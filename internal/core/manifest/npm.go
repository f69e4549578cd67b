package manifest

import (
	"path"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pattern"
)

// npm reads npm packages and workspaces.
type npm struct{}

func (npm) Name() string { return "npm" }

// The lists of dependencies in a package.json, and for whom they are:
// https://docs.npmjs.com/cli/configuring-npm/package-json.
var npmLists = map[string]Scope{
	"dependencies": Shipped, "devDependencies": Development, "peerDependencies": Other, "optionalDependencies": Other,
	"bundleDependencies": Other, "peerDependenciesMeta": Other,
}

// npmPackage is a package.json with the directory that it governs.
type npmPackage struct {
	dir, file string
	name      string
	private   bool
	scripts   map[string]string
	entry     string // what it says of the files that others use
	lists     []jsonList
	entries   []Entry
	declared  map[string]bool // the names of the entries
}

func (npm) Manifests(r *Repo) (out []Manifest) {
	s := newNPMSurvey(r)
	for _, p := range s.all {
		m := Manifest{
			File: p.file, Entries: p.entries, mentioned: s.mentionedIn(p),
			Bundled: p.private && !slices.ContainsFunc(p.entries, func(e Entry) bool { return e.Scope == Shipped }),
			Words:   Words{Shipped: "dependencies", Development: "devDependencies", Add: "add it with npm install %s"},
		}
		for _, f := range s.files[p.dir] {
			if !isSheet(f) {
				m.Uses = append(m.Uses, s.uses(p, f)...)
			}
		}
		for _, u := range m.Uses {
			s.borrowed[u.Name] = s.borrowed[u.Name] || !p.declared[u.Name]
		}
		out = append(out, m)
	}
	return out
}

// npmSurvey is what is the same for all packages of a repository.
type npmSurvey struct {
	*Repo
	all     []npmPackage
	byDir   map[string]*npmPackage
	names   map[string]bool     // of the packages of the repository
	files   map[string][]string // scripts and sheets, by the package around them
	configs map[string][]string // files that configure tools, by directory
	quoted  map[string]quotes   // in these
	// borrowed are packages that some package imports and does not declare: it finds one that another
	// package declares.
	borrowed map[string]bool

	locked npmLocked
}

func newNPMSurvey(r *Repo) *npmSurvey {
	s := &npmSurvey{
		Repo: r, byDir: map[string]*npmPackage{}, names: map[string]bool{}, configs: map[string][]string{},
		quoted: map[string]quotes{}, borrowed: map[string]bool{},
	}
	for _, f := range r.named("package.json") {
		if p, ok := readPackage(f, r.text(f)); ok {
			s.all = append(s.all, p)
		}
	}
	for i, p := range s.all {
		s.names[p.name] = true
		s.byDir[p.dir] = &s.all[i]
	}
	for _, p := range s.all {
		for i := range p.entries {
			p.entries[i].Local = s.names[p.entries[i].Name]
		}
	}
	dirs := map[string]bool{}
	for _, p := range s.all {
		dirs[p.dir] = true
	}
	s.files = r.governed(dirs, func(f string) bool { return imports.IsScript(f) || isSheet(f) })
	if len(s.all) > 0 {
		s.locked = readLocks(r)
		s.findConfigs()
	}
	for _, p := range s.all {
		for i := range p.entries {
			if s.locked.peersUnknown {
				p.entries[i].Advice = "remove it, unless an installed package expects it beside itself, which yarn.lock does not tell"
				p.entries[i].Remove = nil
			}
		}
	}
	return s
}

func isSheet(f string) bool { return strings.HasSuffix(f, ".css") || strings.HasSuffix(f, ".scss") }

// uses returns the packages that a file imports; modules of Node, files, aliases and
// packages of the repository are none.
func (s *npmSurvey) uses(p npmPackage, file string) (out []Use) {
	src := s.Imports.Of(file)
	within := strings.TrimPrefix(file, p.dir+"/")
	role := sync.OnceValue(func() fileRole {
		r := roleOf(within)
		if !r.test && !p.isEntry(within) {
			tool, unclear := p.isRun(within)
			r.test, r.unclear = tool, !tool && (unclear || r.unclear)
		}
		return r
	})
	for _, x := range src.Imports {
		name := s.provider(p, packageOf(x.Spec))
		if name == "" || name == p.name || !p.declared[name] && (s.isProvided(p, name, x.Spec) || s.names[name]) {
			continue
		}
		out = append(out, Use{
			Name: name, File: file, Line: x.Line, Column: x.Column, Types: x.Types || role().types, Test: role().test,
			Unclear: role().unclear, Certain: !src.Generated && !x.Optional && !role().built,
		})
	}
	return out
}

// provider returns the declared package that provides a module of another name, as the declarations of
// the repository say; otherwise the name itself.
func (s *npmSurvey) provider(p npmPackage, module string) string {
	if module == "" || p.declared[module] {
		return module
	}
	for _, pkg := range sortedKeys(s.Provides["npm"]) {
		provides := slices.ContainsFunc(s.Provides["npm"][pkg], func(m string) bool {
			scope, whole := strings.CutSuffix(m, "/*")
			return m == module || whole && strings.HasPrefix(module, scope+"/")
		})
		if provides && (p.declared[pkg] || s.isProvided(p, pkg, pkg)) {
			return pkg
		}
	}
	return module
}

// isEntry tells whether a file is named in a manifest as what the package consists of.
func (p npmPackage) isEntry(file string) bool { return hasWord(p.entry, file) }

// isProvided tells whether a package that a manifest does not have comes from
// elsewhere: only its types are there, a package around this one has it, such as the
// root of a workspace, or a configuration maps the specifier to files.
func (s *npmSurvey) isProvided(p npmPackage, name, spec string) bool {
	if p.declared["@types/"+strings.ReplaceAll(strings.TrimPrefix(name, "@"), "/", "__")] {
		return true
	}
	for dir := p.dir; dir != "."; {
		dir = path.Dir(dir)
		if above := s.byDir[dir]; above != nil && above.declared[name] {
			return true
		}
	}
	return s.isAlias(p, spec)
}

var packageName = pattern.New(`^(@[a-z0-9~-][a-z0-9._~-]*/)?[a-z0-9-][a-z0-9._~-]*$`)

// packageOf returns the package that a module specifier names; empty if it names a
// file, a module of Node, or something that a bundler provides.
func packageOf(spec string) string {
	if strings.ContainsAny(spec, ":#$?! ") || strings.HasPrefix(spec, ".") || strings.HasPrefix(spec, "/") ||
		strings.HasPrefix(spec, "~") {
		return ""
	}
	segs := strings.SplitN(spec, "/", 3)
	name := segs[0]
	if strings.HasPrefix(spec, "@") {
		if len(segs) < 2 {
			return ""
		}
		name += "/" + segs[1]
	}
	if !packageName.MatchString(name) || slices.Contains(nodeModules, name) {
		return ""
	}
	return name
}

// nodeModules are the modules that Node has, which may be imported without node:.
var nodeModules = strings.Fields(
	`assert async_hooks buffer child_process cluster console constants crypto dgram diagnostics_channel dns
	domain events fs http http2 https inspector module net os path perf_hooks process punycode querystring readline repl stream
	string_decoder sys timers tls trace_events tty url util v8 vm wasi worker_threads zlib`,
)

// isAlias tells whether a configuration near a package maps a specifier to files.
func (s *npmSurvey) isAlias(p npmPackage, spec string) bool {
	first := strings.SplitN(spec, "/", 2)[0]
	return slices.ContainsFunc([]string{p.dir, "."}, func(dir string) bool {
		q := s.quotedInConfigs(dir)
		return q['"'][first+"/*"] || q['"'][first] || q['"'][spec] || q['\''][first]
	})
}

// quotes are texts between two quotes that follow each other, by the quote: those that are quoted, and
// those between them.
type quotes map[byte]map[string]bool

// longestName is the largest length of a package's name
// (https://docs.npmjs.com/cli/configuring-npm/package-json#name).
const longestName = 214

// quotedInConfigs returns what the files that configure tools in a directory quote.
func (s *npmSurvey) quotedInConfigs(dir string) quotes {
	q, ok := s.quoted[dir]
	if !ok {
		q = quotes{'"': {}, '\'': {}}
		for _, f := range s.configs[dir] {
			q.add(s.text(f))
		}
		s.quoted[dir] = q
	}
	return q
}

// add adds what a text quotes that may be a name.
func (q quotes) add(text string) {
	for quote, words := range q {
		for word := range strings.SplitSeq(text, string(quote)) {
			if len(word) <= longestName && !strings.ContainsAny(word, " \n") {
				words[word] = true
			}
		}
	}
}

// findConfigs finds the files that configure tools, by the directory that they are
// for.
func (s *npmSurvey) findConfigs() {
	for _, f := range s.Files {
		base := path.Base(f)
		if isConfig(base) {
			dir := path.Dir(f)
			if i := strings.Index("/"+dir, "/."); i >= 0 && dir != "." { // such as .github/workflows
				dir = path.Clean(dir[:max(i-1, 0)])
			}
			s.configs[dir] = append(s.configs[dir], f)
		}
	}
}

// configsOf are the files that configure tools for a package: its own, and those at
// the root.
func (s *npmSurvey) configsOf(p npmPackage) []string {
	if p.dir == "." {
		return s.configs["."]
	}
	return slices.Concat(s.configs[p.dir], s.configs["."])
}
