package installed_test

import (
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/installed"
)

type record struct {
	name  string
	files map[string]string
	with  func(name string) string // the text of a package's version, to replace
}

// Each record installs the same: the root has a compiler, quay (which needs rope) has fog with haze in it,
// rope has mist, and lamp has wick and types that every compiler sees.
var records = []record{
	{"node_modules/.package-lock.json", map[string]string{
		"package.json": `{"devDependencies": {"compiler": "1"}, "workspaces": ["packages/*"]}`,
		"node_modules/.package-lock.json": `{"lockfileVersion": 3, "packages": {
			"node_modules/quay": {"resolved": "packages/quay", "link": true},
			"node_modules/rope": {"resolved": "packages/rope", "link": true},
			"node_modules/compiler": {"version": "1.0.0", "integrity": "sha512-compiler1"},
			"packages/quay": {"dependencies": {"rope": "*", "fog": "1"}},
			"packages/rope": {"version": "1.0.0", "devDependencies": {"mist": "1"}},
			"packages/lamp": {"optionalDependencies": {"wick": "1"}, "devDependencies": {"@types/lamp": "1"}},
			"node_modules/fog": {"version": "1.0.0", "integrity": "sha512-fog1", "dependencies": {"haze": "1", "fog": "*"}},
			"node_modules/fog/node_modules/haze": {"version": "1.0.0", "integrity": "sha512-haze1"},
			"node_modules/haze": {"version": "2.0.0", "integrity": "sha512-haze2", "bin": {"blow": "x"}},
			"node_modules/mist": {"version": "1.0.0", "integrity": "sha512-mist1"},
			"packages/lamp/node_modules/wick": {"version": "1.0.0", "resolved": "git+ssh://host/wick1"},
			"node_modules/@types/lamp": {"version": "1.0.0", "integrity": "sha512-@types/lamp1"}
		}}`,
	}, func(name string) string {
		if name == "wick" {
			return "host/wick1"
		}
		return "sha512-" + name + "1"
	}},
	{"node_modules/.pnpm/lock.yaml", map[string]string{
		"node_modules/.modules.yaml":   `{"hoistedDependencies": {"@types/lamp@1.0.0": {"@types/lamp": "public"}, "mist@1.0.0": {"mist": "private"}}}`,
		"node_modules/.pnpm/lock.yaml": pnpm("'9.0'", "", "@") + snapshots,
	}, sha512},
	{"node_modules/.pnpm/lock.yaml", map[string]string{
		"node_modules/.modules.yaml":   "nodeLinker: hoisted\n",
		"node_modules/.pnpm/lock.yaml": pnpm("'9.0'", "", "@") + snapshots,
	}, sha512},
	{"node_modules/.pnpm/lock.yaml", map[string]string{
		"node_modules/.modules.yaml":   "nodeLinker: hoisted\n",
		"node_modules/.pnpm/lock.yaml": pnpm("'6.0'", "/", "@") + pnpmPackages("@"),
	}, sha512},
	{"node_modules/.pnpm/lock.yaml", map[string]string{
		"node_modules/.modules.yaml":   "nodeLinker: hoisted\n",
		"node_modules/.pnpm/lock.yaml": pnpm("5.4", "/", "/") + pnpmPackages("/"),
	}, sha512},
	{"node_modules/.yarn-state.yml", map[string]string{
		"node_modules/.yarn-state.yml": `
__metadata:
  version: 1
"root@workspace:.": {locations: [""]}
"quay@workspace:packages/quay": {locations: ["node_modules/quay"]}
"rope@workspace:packages/rope": {locations: ["node_modules/rope"]}
"lamp@workspace:packages/lamp": {locations: ["node_modules/lamp"]}
"compiler@patch:compiler@npm%3A1.0.0#builtin": {locations: ["node_modules/compiler"]}
"fog@virtual:abc#npm:1.0.0": {locations: ["node_modules/fog"]}
"haze@npm:1.0.0": {locations: ["node_modules/fog/node_modules/haze"]}
"haze@npm:2.0.0": {locations: ["node_modules/haze"]}
"mist@npm:1.0.0": {locations: ["node_modules/mist"]}
"wick@npm:1.0.0": {locations: ["packages/lamp/node_modules/wick"]}
"@types/lamp@npm:1.0.0": {locations: ["node_modules/@types/lamp"]}
`,
		"yarn.lock": `
__metadata: {version: 8}
"root@workspace:.": {resolution: "root@workspace:.", dependencies: {compiler: "npm:1"}}
"quay@workspace:packages/quay": {resolution: "quay@workspace:packages/quay", dependencies: {rope: "workspace:*", fog: "npm:^1"}}
"rope@workspace:*, rope@workspace:packages/rope": {resolution: "rope@workspace:packages/rope", dependencies: {mist: "npm:1"}}
"lamp@workspace:packages/lamp": {resolution: "lamp@workspace:packages/lamp", dependencies: {wick: "npm:1", "@types/lamp": "npm:1", far: "npm:1"}}
"compiler@npm:1": {resolution: "compiler@npm:1.0.0", checksum: other}
"compiler@patch:compiler@npm%3A1#builtin": {resolution: "compiler@patch:compiler@npm%3A1.0.0#builtin", checksum: sha512-compiler1}
"fog@npm:1, fog@npm:^1": {resolution: "fog@npm:1.0.0", checksum: sha512-fog1, dependencies: {haze: "npm:1"}}
"haze@npm:2.0.0": {resolution: "haze@npm:2.0.0", version: 2.0.0, checksum: sha512-haze2, bin: {blow: x}}
"haze@npm:1": {resolution: "haze@npm:1.0.0", version: 1.0.0, checksum: sha512-haze1}
"mist@npm:1": {resolution: "mist@npm:1.0.0", checksum: sha512-mist1}
"wick@npm:1": {resolution: "wick@npm:1.0.0", checksum: sha512-wick1}
"far@npm:1": {resolution: "far@npm:1.0.0", checksum: sha512-far1, conditions: os=elsewhere}
"@types/lamp@npm:1": {resolution: "@types/lamp@npm:1.0.0", checksum: sha512-@types/lamp1}
`,
	}, sha512},
	{".pnp.data.json", map[string]string{".pnp.data.json": pnp, "yarn.lock": pnpLock}, sha512},
	{".pnp.cjs", map[string]string{".pnp.cjs": loader, "yarn.lock": pnpLock}, sha512},
}

// pnp is the data of a loader, in which each package names the others that it finds.
const pnp = `{
  "dependencyTreeRoots": [{"name": "root", "reference": "workspace:."}],
  "ignorePatternData": "(^(?:\\.yarn|it's))",
  "packageRegistryData": [
    [null, [[null, {"packageLocation": "./", "packageDependencies": [["compiler", "patch:compiler@npm%3A1.0.0#builtin"]]}]]],
    ["root", [["workspace:.", {"packageLocation": "./", "packageDependencies": [["compiler", "patch:compiler@npm%3A1.0.0#builtin"]]}]]],
    ["quay", [["workspace:packages/quay", {"packageLocation": "./packages/quay/", "packageDependencies": [
      ["mist-by-another-name", ["fog", "virtual:abc#npm:1.0.0"]], ["rope", "workspace:packages/rope"], ["peer", null]]}]]],
    ["rope", [["workspace:packages/rope", {"packageLocation": "./packages/rope/", "packageDependencies": [["mist", "npm:1.0.0"]]}]]],
    ["lamp", [["workspace:packages/lamp", {"packageLocation": "./packages/lamp/", "packageDependencies": [
      ["wick", "npm:1.0.0"], ["@types/lamp", "npm:1.0.0"]]}]]],
    ["compiler", [["patch:compiler@npm%3A1.0.0#builtin", {"packageLocation": "../x.zip/", "packageDependencies": []}]]],
    ["fog", [["virtual:abc#npm:1.0.0", {"packageLocation": "../x.zip/", "packageDependencies": [["haze", "npm:1.0.0"], ["fog", "virtual:abc#npm:1.0.0"]]}]]],
    ["haze", [["npm:1.0.0", {"packageLocation": "../x.zip/", "packageDependencies": []}]]],
    ["mist", [["npm:1.0.0", {"packageLocation": "../x.zip/", "packageDependencies": []}]]],
    ["wick", [["npm:1.0.0", {"packageLocation": "../x.zip/", "packageDependencies": []}]]],
    ["@types/lamp", [["npm:1.0.0", {"packageLocation": "../x.zip/", "packageDependencies": []}]]]
  ]
}`

// loader is a script with the same data.
var loader = "#!/usr/bin/env node\n\nconst RAW_RUNTIME_STATE =\n'" +
	strings.NewReplacer("\\", "\\\\", "'", "\\'", "\n", "\\\n").Replace(pnp) + "';\n\nfunction setup() { return 'x'; }\n"

const pnpLock = `
"compiler@patch:x": {resolution: "compiler@patch:compiler@npm%3A1.0.0#builtin", checksum: sha512-compiler1}
"fog@npm:1": {resolution: "fog@npm:1.0.0", checksum: sha512-fog1}
"haze@npm:1": {resolution: "haze@npm:1.0.0", checksum: sha512-haze1}
"mist@npm:1": {resolution: "mist@npm:1.0.0", checksum: sha512-mist1}
"wick@npm:1": {resolution: "wick@npm:1.0.0", checksum: sha512-wick1}
"@types/lamp@npm:1": {resolution: "@types/lamp@npm:1.0.0", checksum: sha512-@types/lamp1}
`

// snapshots are the packages of a record in format 9.
const snapshots = `
packages:
  compiler@1.0.0:
    resolution: {integrity: sha512-compiler1}
  fog@1.0.0:
    resolution: {integrity: sha512-fog1}
  haze@1.0.0:
    resolution: {integrity: sha512-haze1}
  haze@2.0.0:
    resolution: {integrity: sha512-haze2}
    hasBin: true
  mist@1.0.0:
    resolution: {integrity: sha512-mist1}
  wick@1.0.0:
    resolution: {integrity: sha512-wick1}
  '@types/lamp@1.0.0':
    resolution: {integrity: sha512-@types/lamp1}
snapshots:
  compiler@1.0.0: {}
  fog@1.0.0(rope@packages+rope):
    dependencies:
      haze: 1.0.0
      fog: 1.0.0(rope@packages+rope)
  haze@1.0.0: {}
  haze@2.0.0: {}
  mist@1.0.0: {}
  wick@1.0.0: {}
  '@types/lamp@1.0.0': {}
`

func sha512(name string) string { return "sha512-" + name + "1" }

// pnpm returns the importers of a record in a format, in which versions may be keys: with a slash in front.
func pnpm(format, lead, between string) string {
	version := func(name, v string) string {
		if lead != "" && strings.HasPrefix(name, "@") { // written as a key
			return lead + name + between + v
		}
		return v
	}
	fog := "1.0.0"
	if lead == "" {
		fog += "(rope@packages+rope)"
	}
	return "lockfileVersion: " + format + `
settings: {autoInstallPeers: true}
importers:
  .:
    devDependencies:
      compiler: {specifier: '1', version: 1.0.0}
  packages/quay:
    dependencies:
      rope: {specifier: 'workspace:*', version: link:../rope}
      fog: {specifier: '1', version: ` + fog + `}
  packages/rope:
    devDependencies:
      mist: 1.0.0
  packages/lamp:
    optionalDependencies:
      wick: 1.0.0
    devDependencies:
      '@types/lamp': ` + version("@types/lamp", "1.0.0") + "\n"
}

func pnpmPackages(between string) string {
	text := "packages:\n"
	for _, p := range []string{"compiler 1", "fog 1", "haze 1", "haze 2", "mist 1", "wick 1", "@types/lamp 1"} {
		name, major, _ := strings.Cut(p, " ")
		text += "  '/" + name + between + major + ".0.0':\n    resolution: {integrity: 'sha512-" + name + major + "'}\n"
		if p == "haze 2" {
			text += "    hasBin: true\n"
		}
		if name == "fog" {
			text += "    dependencies: {haze: 1.0.0}\n"
		}
	}
	return text
}

func parts(t *testing.T, name string, files map[string]string) map[string]string {
	t.Helper()
	r, ok := installed.Find(name)
	if !ok {
		t.Fatalf("%s is not known", name)
	}
	fsys := fstest.MapFS{}
	for f, text := range files {
		fsys[f] = &fstest.MapFile{Data: []byte(text)}
	}
	s, err := r.Read(func(name string) ([]byte, error) { return fs.ReadFile(fsys, name) })
	if err != nil {
		t.Fatal(err)
	}
	return map[string]string{
		"quay": s.Part("packages/quay", "", []string{"packages/rope"}), "rope": s.Part("packages/rope", "", nil),
		"script": s.Part("packages/script", `{"scripts": {"test": "cd x; blow -v"}}`, nil),
		"lamp":   s.Part("packages/lamp", "", nil), "new": s.Part("packages/new", "", nil), "root": s.Part(".", "", nil),
	}
}

// Another package in the place of one counts for those that may find it, and for nobody else.
func TestAPackageCountsForTheProjectsThatUseIt(t *testing.T) {
	counts := map[string][]string{
		"compiler":    {"lamp", "new", "quay", "root", "rope", "script"}, // of the directory above
		"fog":         {"quay"},
		"haze":        {"quay"},
		"mist":        {"quay", "rope"}, // quay needs rope
		"wick":        {"lamp"},
		"@types/lamp": {"lamp", "new", "quay", "root", "rope", "script"}, // a compiler reads it without being asked to
	}
	for _, rec := range records {
		before := parts(t, rec.name, rec.files)
		for name, want := range counts {
			files, found := map[string]string{}, false
			for f, text := range rec.files {
				files[f] = strings.ReplaceAll(text, rec.with(name), rec.with(name)+"-another")
				found = found || files[f] != text
			}
			if !found {
				t.Fatalf("%s has no %s", rec.name, name)
			}
			if name == "@types/lamp" && strings.HasPrefix(rec.name, ".pnp.") {
				want = []string{"lamp"} // no directory has it
			}
			var got []string
			for project, part := range parts(t, rec.name, files) {
				if part != before[project] {
					got = append(got, project)
				}
			}
			slices.Sort(got)
			if !slices.Equal(got, want) {
				t.Errorf("%s: another %s counts for %q, want %q", rec.files[rec.name][:60], name, got, want)
			}
		}
	}
}

// A script finds programs of packages that others asked for, where these are in one directory.
func TestTheProgramsOfScriptsCount(t *testing.T) {
	for _, rec := range records {
		var text string
		for _, f := range rec.files {
			text += f
		}
		own, other := parts(t, rec.name, rec.files)["script"], parts(t, rec.name, rec.files)["new"]
		flat := strings.Contains(text, "nodeLinker")
		apart := strings.Contains(text, "snapshots:") && !flat || strings.HasPrefix(rec.name, ".pnp.") // each package finds only its own
		if strings.Contains(own, "haze") == apart || strings.Contains(other, "haze") != flat {
			t.Errorf("%s: %q, and without the program %q", text[:60], own, other)
		}
	}
}

// With a lock file of another time, what something finds is what is there.
func TestWhatIsThereCountsNotWhatIsLocked(t *testing.T) {
	rec := records[slices.IndexFunc(records, func(r record) bool { return strings.Contains(r.name, "yarn") })]
	files := maps.Clone(rec.files)
	files["yarn.lock"] = strings.Replace(files["yarn.lock"], `{haze: "npm:1"}`, `{haze: "npm:2.0.0"}`, 1)
	if got := parts(t, rec.name, files)["quay"]; files["yarn.lock"] == rec.files["yarn.lock"] ||
		!strings.Contains(got, "fog/node_modules/haze 1.0.0") || strings.Contains(got, "2.0.0") {
		t.Error(got)
	}
}

// Where the record does not tell what is installed, all of it counts.
func TestWhatCannotBeToldCountsAsAWhole(t *testing.T) {
	for _, c := range []struct{ file, old, new string }{
		{"node_modules/.yarn-state.yml", `"haze@npm:1.0.0"`, `"haze@npm:0.9.0"`}, // locked, and not installed yet
		{"node_modules/.yarn-state.yml", `"@types/lamp@npm:1.0.0"`, `"@types/lamp@npm:0.9.0"`},
		{"node_modules/.pnpm/lock.yaml", "haze: 1.0.0", "haze: unheard:of"},
	} {
		for _, rec := range records {
			if rec.name != c.file || !strings.Contains(rec.files[c.file], c.old) {
				continue
			}
			files := maps.Clone(rec.files)
			files[c.file] = strings.Replace(files[c.file], c.old, c.new, 1)
			if got := parts(t, rec.name, files)["quay"]; got != files[c.file] {
				t.Errorf("%s instead of %s: %q", c.new, c.old, got)
			}
		}
	}
}

func TestADamagedRecordIsNamed(t *testing.T) {
	for _, rec := range records {
		r, _ := installed.Find("web/" + rec.name)
		for f := range rec.files {
			missing := "web/" + f
			_, err := r.Read(func(name string) ([]byte, error) {
				if name == missing {
					return nil, fs.ErrNotExist
				}
				return []byte(rec.files[strings.TrimPrefix(name, "web/")]), nil
			})
			if err == nil || !strings.Contains(err.Error(), r.Program+" install") {
				t.Errorf("without %s: %v", missing, err)
			}
		}
		// Half a file, and lists in place of tables, are reported or read; nothing else happens.
		for _, text := range []string{"[1, 2]", "{", "\x00", `{"packages": {"/a/../b": {"dependencies": {"c": "1"}}}}`} {
			if s, err := r.Read(func(string) ([]byte, error) { return []byte(text), nil }); err == nil {
				_ = s.Part("web/a", "[", nil)
			} else if !strings.Contains(err.Error(), "web/"+rec.name) {
				t.Errorf("%q: %v", text, err)
			}
		}
	}
}
