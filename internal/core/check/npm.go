package check

import (
	"encoding/json"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/jsimport"
)

// The lists of dependencies in a package.json, and for whom they are:
// https://docs.npmjs.com/cli/configuring-npm/package-json.
var npmLists = map[string]scope{
	"dependencies": shipped, "devDependencies": development, "peerDependencies": other, "optionalDependencies": other,
	"bundleDependencies": other,
}

// npmPackage is a package.json with the directory that it governs.
type npmPackage struct {
	dir, file string
	name      string
	private   bool
	scripts   string // all of them
	lists     []jsonList
	entries   []entry
}

// npmManifests reads the manifests of npm packages, and what the scripts and
// components below them import.
func npmManifests(in *inspection) (out []manifest) {
	var all []npmPackage
	for _, f := range in.Files {
		if path.Base(f) == "package.json" && !adopt.Foreign(f) {
			if p, ok := readPackage(f, in.text(f)); ok {
				all = append(all, p)
			}
		}
	}
	names := map[string]bool{}
	for _, p := range all {
		names[p.name] = true
	}
	files := in.governed("package.json", jsimport.IsScript)
	tools := in.tools()
	for _, p := range all {
		m := manifest{
			ecosystem: "npm", file: p.file, entries: p.entries, mentioned: in.namedIn(tools, files, p),
			bundled: p.private && !slices.ContainsFunc(p.entries, func(e entry) bool { return e.scope == shipped }),
			words:   words{shipped: "dependencies", development: "devDependencies", add: "npm install %s"},
		}
		if owner := in.Graph.Owner(p.file); owner != nil {
			m.project = owner.Name
		}
		for _, f := range files[p.dir] {
			for _, u := range in.npmUses(p, f) {
				if p.has(u.name) || !names[u.name] && !providedAbove(all, p, u.name) {
					m.uses = append(m.uses, u)
				}
			}
		}
		out = append(out, m)
	}
	return out
}

// testFile matches files that are not shipped: tests, stories, configurations of
// tools, declarations of types.
var testFile = regexp.MustCompile(`(^|/)(__tests__|__mocks__|tests?|e2e|spec|stories)/` +
	`|\.(test|spec|stories|bench|e2e)\.[a-z]+$|\.config\.[a-z]+$|\.d\.[mc]?ts$|(^|/)[^/]*rc\.[mc]?js$`)

// npmUses returns the packages that a file imports; modules of Node, files and
// aliases are none.
func (in *inspection) npmUses(p npmPackage, file string) (out []use) {
	src := in.source(file)
	for _, x := range src.imports {
		name := packageOf(x.Spec)
		if name == "" || name == p.name || !p.has(name) && in.isProvided(p, name, x.Spec) {
			continue
		}
		out = append(out, use{
			name: name, file: file, line: x.Line, column: x.Column, generated: src.generated,
			test: testFile.MatchString(file) || hasWord(p.scripts, path.Base(file)),
		})
	}
	return out
}

// isProvided tells whether a package that a manifest does not have comes from
// elsewhere: only its types are imported, or a configuration maps it to files.
func (in *inspection) isProvided(p npmPackage, name, spec string) bool {
	types := "@types/" + strings.ReplaceAll(strings.TrimPrefix(name, "@"), "/", "__")
	return p.has(types) || in.isAlias(p, spec)
}

func (p npmPackage) has(name string) bool {
	return slices.ContainsFunc(p.entries, func(e entry) bool { return e.name == name })
}

// providedAbove tells whether a package around this one, such as the root of a
// workspace, has a dependency: its packages find it there.
func providedAbove(all []npmPackage, p npmPackage, name string) bool {
	return slices.ContainsFunc(all, func(o npmPackage) bool { return o.dir != p.dir && isBelow(o.dir, p.file) && o.has(name) })
}

var packageName = regexp.MustCompile(`^(@[a-z0-9~-][a-z0-9._~-]*/)?[a-z0-9-][a-z0-9._~-]*$`)

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
func (in *inspection) isAlias(p npmPackage, spec string) bool {
	first := strings.SplitN(spec, "/", 2)[0]
	return slices.ContainsFunc(in.configs(p), func(f string) bool {
		text := in.text(f)
		return strings.Contains(text, `"`+first+`/*"`) || strings.Contains(text, `"`+spec+`"`) ||
			strings.Contains(text, `'`+first+`'`) ||
			strings.Contains(text, `"`+first+`"`) && path.Base(f) != "package.json"
	})
}

// configs are the files that configure tools for a package: its own, and those at
// the root.
func (in *inspection) configs(p npmPackage) []string {
	if in.configFiles == nil {
		in.configFiles = map[string][]string{}
		for _, f := range in.Files {
			base := path.Base(f)
			if base != "package.json" && !strings.Contains(base, "lock") && configFile.MatchString(base) {
				dir := path.Dir(f)
				if i := strings.Index("/"+dir, "/."); i >= 0 && dir != "." { // such as .github/workflows
					dir = path.Clean(dir[:max(i-1, 0)])
				}
				in.configFiles[dir] = append(in.configFiles[dir], f)
			}
		}
	}
	if p.dir == "." {
		return in.configFiles["."]
	}
	return slices.Concat(in.configFiles[p.dir], in.configFiles["."])
}

var configFile = regexp.MustCompile(`(?i)config|rc(\.|$)|^\.|\.json$|\.ya?ml$|\.toml$|makefile|dockerfile`)

// tools are what is the same for all packages: what tasks run, and what lock files
// say about installed packages: which ones they expect beside them, and the names of
// the programs that they bring.
type tools struct {
	commands string
	peers    map[string]bool
	programs map[string][]string
}

func (in *inspection) tools() tools {
	out := tools{peers: map[string]bool{}, programs: map[string][]string{}}
	var b strings.Builder
	for _, t := range in.Graph.Tasks {
		b.WriteString(strings.Join(t.Decl.Run.Words(), " ") + "\n")
	}
	out.commands = b.String()
	for _, f := range in.Files {
		var lock struct {
			Packages map[string]struct {
				Peers    map[string]string `json:"peerDependencies"`
				Programs map[string]string `json:"bin"`
			} `json:"packages"`
		}
		if path.Base(f) == "package-lock.json" && json.Unmarshal([]byte(in.text(f)), &lock) == nil {
			for at, l := range lock.Packages {
				for name := range l.Peers {
					out.peers[name] = true
				}
				_, name, _ := strings.Cut(at, "node_modules/")
				out.programs[name] = slices.AppendSeq(out.programs[name], maps.Keys(l.Programs))
			}
		}
	}
	return out
}

// namedIn returns whether a package is used without an import in the files of its
// manifest: in scripts, in configurations, in what tasks run, as types, beside an
// installed package, by a path, or by a package in a directory of this one.
func (in *inspection) namedIn(t tools, files map[string][]string, p npmPackage) func(string) bool {
	text := sync.OnceValue(func() string {
		texts := []string{p.scripts, t.commands}
		var rest map[string]json.RawMessage
		_ = json.Unmarshal([]byte(in.text(p.file)), &rest)
		for key, value := range rest {
			if _, isList := npmLists[key]; !isList && key != "name" && key != "description" && key != "keywords" {
				texts = append(texts, string(value))
			}
		}
		for _, f := range in.configs(p) {
			texts = append(texts, in.text(f))
		}
		return strings.Join(texts, "\n")
	})
	return func(name string) bool {
		if strings.HasPrefix(name, "@types/") || t.peers[name] {
			return true // types are used by files that import something else, or nothing
		}
		plain := name[strings.LastIndexByte(name, '/')+1:]
		for _, word := range append([]string{name, plain}, t.programs[name]...) {
			if hasWord(text(), word) {
				return true
			}
		}
		return in.isReadFrom(name) || in.isImportedBelow(files, p, name)
	}
}

// isImportedBelow tells whether a file of another package, in a directory of this
// one, imports a package: it finds it here.
func (in *inspection) isImportedBelow(files map[string][]string, p npmPackage, name string) bool {
	for dir, list := range files {
		if dir == p.dir || !isBelow(p.dir, dir+"/x") {
			continue
		}
		for _, f := range list {
			if slices.ContainsFunc(in.source(f).imports, func(x jsimport.Import) bool { return packageOf(x.Spec) == name }) {
				return true
			}
		}
	}
	return false
}

// isReadFrom tells whether some file names the directory in which a package is
// installed.
func (in *inspection) isReadFrom(name string) bool {
	return slices.ContainsFunc(in.Files, func(f string) bool {
		return !strings.Contains(path.Base(f), "lock") && strings.Contains(in.fresh(f), "node_modules/"+name+"/")
	})
}

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
