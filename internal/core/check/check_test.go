package check_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/edit"
	"grayloft.example/grayloft/internal/core/graph"
)

// harbour is a repository with a defect of each rule.
var harbour = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
projects = ["libs/*", "services/*", "apps/*", "tools/*"]
[kind.go]
[kind.go.task.build]
run = "go build ./..."
reads = ["**/*.go", "go.mod", "testdata/**"]
writes = []
probes = ["go"]
after = ["build@needs:*"]
[kind.never]
[probe.go]
run = "go version"
reads = []
[probe.tide]
run = "tide --version"
[setting.fog]
values = ["thin", "thick"]
default = "thin"
[pick.named]
where = "kind:go"
[pick.other]
where = "pick:named"
`,
	"libs/money/loft.toml": "[project]\nkind = \"go\"\n",
	"libs/money/go.mod":    "module skerry.example/money\n",
	"libs/money/money.go":  "package money\n",
	"libs/tides/loft.toml": "[project]\nkind = \"go\"\n",
	"libs/tides/go.mod":    "module skerry.example/tides\n",
	"libs/tides/tides.go":  "package tides\n",
	"libs/fares/loft.toml": "# kept\n[project]\nkind = \"go\"\nneeds = [\n  \"libs/tides\", # for the evening\n]\n",
	"libs/fares/go.mod":    "module skerry.example/fares\nrequire skerry.example/money v0.0.0\n",
	"libs/fares/fares.go":  "package fares\n\n// import \"skerry.example/tides\"\nimport \"skerry.example/money\"\n\nvar _ = `import \"skerry.example/tides\"`\n",
	"services/desk/loft.toml": `[project]
name  = "desk"
owner = "sales"

[task.pack]
run    = "tar cf out/desk.tar main.go"
reads  = ["main.go", "nothing/*.txt", "!absent", "repo:tools/pack/pack.sh", "made/x"]
writes = ["out/**"]
probes = []
after = ["make"]
[task.make]
run = "touch made/x"
reads = []
writes = ["made/*"]
probes = []
[task.serve]
run = "./desk"
[task.lint]
run = "lint"
writes = []
`,
	"services/desk/main.go":     "package main\n",
	"services/desk/out/old.tar": "",
	"tools/pack/loft.toml":      "[task.check]\nrun = \"true\"\nwrites = []\nprobes = []\nreuse = \"local\"\n",
	"tools/pack/pack.sh":        "",
	"apps/web/loft.toml":        "[project]\nneeds = []\n",
	"apps/web/package.json":     `{"name": "web", "dependencies": {"kit": "*"}, "scripts": {"start": "serve"}}`,
	"apps/web/main.js":          "import kit from 'kit';\n",
	"libs/kit/loft.toml":        "",
	"libs/kit/package.json":     `{"name": "kit"}`,
	"package.json":              `{"workspaces": ["apps/*", "libs/kit"]}`,
	"odd/ends/loft.toml":        "[task.forgotten]\nrun = \"true\"\n",
	"odd/inner/grayloft.toml":   "schema = 1\n", // a repository of its own
	"odd/inner/a/loft.toml":     "[task.theirs]\nrun = \"true\"\n",
	".ci.yml":                   "run: grayloft run --pick pick:other\n",
}

func inspect(t *testing.T, files map[string]string, only ...check.Rule) []check.Finding {
	t.Helper()
	fsys := fstest.MapFS{}
	for name, text := range files {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	g, err := graph.Load(fsys, "harbour")
	if err != nil {
		t.Fatal(err)
	}
	names := slices.Sorted(maps.Keys(files))
	return check.Run(&check.Repo{FS: fsys, Graph: g, Files: names, Tracked: names}, only)
}

func described(list []check.Finding) (out []string) {
	for _, f := range list {
		out = append(out, fmt.Sprintf("%s:%d %s %s %s", f.File, f.Line, f.Severity, f.Rule, f.Subject))
	}
	return out
}

func TestEachPlantedDefectIsFoundAtItsLineAndNothingElse(t *testing.T) {
	want := []string{
		"apps/web/loft.toml:1 error needs-missing apps/web needs libs/kit",
		"grayloft.toml:11 warning unused kind:never",
		"grayloft.toml:15 warning unused probe:tide",
		"grayloft.toml:17 warning unused setting:fog",
		"libs/fares/loft.toml:5 warning needs-unused libs/fares needs libs/tides",
		"odd/ends/loft.toml:1 warning unused file:odd/ends/loft.toml",
		"libs/fares/loft.toml:5 error needs-missing libs/fares needs libs/money",
		"services/desk/loft.toml:1 error needs-missing desk needs tools/pack",
		"services/desk/loft.toml:7 error pattern-empty nothing/*.txt",
		"services/desk/loft.toml:8 error writes-tracked services/desk/out/old.tar",
		"services/desk/loft.toml:16 warning never-shared serve@desk",
		"services/desk/loft.toml:18 warning never-shared lint@desk",
	}
	got := described(inspect(t, harbour))
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("found\n  %s\nwant\n  %s", strings.Join(got, "\n  "), strings.Join(want, "\n  "))
	}
	if got := described(inspect(t, harbour, check.Unused)); len(got) != 4 {
		t.Errorf("one rule: %q", got)
	}
}

// fixed makes all edits, and again while there are some.
func fixed(t *testing.T, files map[string]string) map[string]string {
	t.Helper()
	out := maps.Clone(files)
	for range 5 {
		found, applied := inspect(t, out), 0
		for name := range files {
			text, n, err := check.Apply(name, out[name], found)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			out[name] = text
			applied += n
		}
		if applied == 0 {
			return out
		}
	}
	t.Fatal("there is always something to edit")
	return nil
}

func TestEditsChangeWhatWasFoundAndNothingElse(t *testing.T) {
	after := fixed(t, harbour)
	for name, want := range map[string]string{
		"libs/fares/loft.toml":    "# kept\n[project]\nkind = \"go\"\nneeds = [\n  # for the evening\n  \"libs/money\",\n]\n",
		"apps/web/loft.toml":      "[project]\nneeds = [\"libs/kit\"]\n",
		"services/desk/loft.toml": strings.Replace(harbour["services/desk/loft.toml"], "owner = \"sales\"\n", "owner = \"sales\"\nneeds = [\"tools/pack\"]\n", 1),
	} {
		if after[name] != want {
			t.Errorf("%s is\n%s\nwant\n%s", name, after[name], want)
		}
	}
	for _, f := range inspect(t, after) {
		if len(f.Edits) > 0 {
			t.Errorf("a second time: %s:%d %s", f.File, f.Line, f.Message)
		}
	}
}

func TestListsAreEditedAsTheyAreWritten(t *testing.T) {
	for list, want := range map[string]string{
		"needs = [\"libs/tides\"]":                                     "needs = [\"libs/money\"]",
		"needs = ['libs/tides',]":                                      "needs = [\"libs/money\"]",
		"needs = [\"libs/tides\", \"tools/pack\"]":                     "needs = [\"tools/pack\", \"libs/money\"]",
		"needs = [\"tools/pack\", \"libs/tides\"] # both":              "needs = [\"tools/pack\", \"libs/money\"] # both",
		"needs = [\r\n\t\"tools/pack\",\r\n\t\"libs/tides\",\r\n]\r\n": "needs = [\r\n\t\"tools/pack\",\r\n\t\"libs/money\",\r\n]\r\n",
		"needs = [\n  \"libs/tides\",\n  \"tools/pack\"\n]":            "needs = [\n  \"tools/pack\",\n  \"libs/money\"\n]",
	} {
		files := maps.Clone(harbour)
		files["libs/fares/loft.toml"] = "[project]\nkind = \"go\"\n" + list
		if got := fixed(t, files)["libs/fares/loft.toml"]; got != "[project]\nkind = \"go\"\n"+want {
			t.Errorf("%q becomes\n%q, want\n%q", list, got, want)
		}
	}
}

func TestTheDeclarationOfATemplateIsForProjectsToCome(t *testing.T) {
	files := map[string]string{
		"grayloft.toml":        "schema = 1\n[repo]\nprojects = [\"libs/*\"]\n[kind.go]\ntemplate = \"made/go\"\n",
		"libs/money/loft.toml": "[project]\nkind = \"go\"\n",
		"made/go/loft.toml":    "[project]\nkind = \"go\"\n",
		"made/loft.toml":       "[project]\nkind = \"go\"\n",
	}
	if got := described(inspect(t, files, check.Unused)); !slices.Equal(got, []string{"made/loft.toml:1 warning unused file:made/loft.toml"}) {
		t.Errorf("%q", got)
	}
}

func TestLevelsAndWhatIsAllowed(t *testing.T) {
	files := maps.Clone(harbour)
	files["grayloft.toml"] += "[check.unused]\nlevel = \"error\"\nallow = [\"kind:*\", \"probe:tide\", \"file:odd/**\"]\n[check.never-shared]\nlevel = \"off\"\n"
	got := described(inspect(t, files, check.Unused, check.NeverShared))
	if !slices.Equal(got, []string{"grayloft.toml:17 error unused setting:fog"}) {
		t.Errorf("%q", got)
	}
}

func TestABaselineHoldsWhenLinesMove(t *testing.T) {
	text, err := check.WriteBaseline(inspect(t, harbour))
	if err != nil {
		t.Fatal(err)
	}
	files := maps.Clone(harbour)
	files["services/desk/loft.toml"] = "# a line more\n" + files["services/desk/loft.toml"] + "[task.more]\nrun = \"x\"\n"
	fresh, old, err := check.New(inspect(t, files), text)
	if err != nil || old != 12 || len(fresh) != 1 || fresh[0].Subject != "more@desk" {
		t.Errorf("%q, %d in the baseline, %v", described(fresh), old, err)
	}
	for _, bad := range []string{"", "[]", `{"version": 9}`} {
		if _, _, err := check.New(nil, []byte(bad)); err == nil {
			t.Errorf("%q is taken as a baseline", bad)
		}
	}
}

// The schema is that of the standard:
// https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json.
func TestSARIFIsValid(t *testing.T) {
	s, err := jsonschema.NewCompiler().Compile("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	for name, list := range map[string][]check.Finding{"harbour": inspect(t, harbour), "market": inspect(t, market), "nothing": {}} {
		text, err := check.SARIF(list)
		if err != nil {
			t.Fatal(err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		if err == nil {
			err = s.Validate(doc)
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"version": "2.1.0", "runs": [{"tool": {"driver": {}}}]}`))
	if err != nil || s.Validate(doc) == nil {
		t.Errorf("a driver without a name is valid: %v", err)
	}
}

func TestSARIFNamesEachFinding(t *testing.T) {
	list := inspect(t, harbour)
	text, err := check.SARIF(list)
	var log struct {
		Version string
		Runs    []struct {
			Results []struct {
				RuleID    string
				Level     string
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err == nil {
		err = json.Unmarshal(text, &log)
	}
	if err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 || len(log.Runs[0].Results) != len(list) {
		t.Fatalf("%v\n%s", err, text)
	}
	for i, r := range log.Runs[0].Results {
		at := r.Locations[0].PhysicalLocation
		if r.RuleID != string(list[i].Rule) || at.ArtifactLocation.URI != list[i].File || at.Region.StartLine != list[i].Line ||
			r.Level == "" {
			t.Errorf("%+v, want %+v", r, list[i])
		}
	}
}

func TestAnEditThatIsStaleIsRefused(t *testing.T) {
	one := func(e edit.Edit) []check.Finding { return []check.Finding{{Edits: []edit.Edit{e}}} }
	if _, _, err := check.Apply("x", "a\n", one(edit.Edit{File: "x", Line: 5, Column: 1, EndLine: 5, EndColumn: 2})); err == nil {
		t.Error("an edit beyond the end was made")
	}
	broken := one(edit.Edit{File: "x.toml", Line: 1, Column: 1, EndLine: 1, EndColumn: 1, Text: "[["})
	if _, _, err := check.Apply("x.toml", "a = 1\n", broken); err == nil {
		t.Error("an edit that breaks the file was made")
	}
}

// A project that another missing one needs comes with it.
func TestOnlyTheNeedsThatBringTheOthersAreMissing(t *testing.T) {
	mod := func(name string, uses ...string) string {
		text := "module skerry.example/" + name + "\n"
		for _, u := range uses {
			text += "require skerry.example/" + u + " v0.0.0\nreplace skerry.example/" + u + " => ../" + u + "\n"
		}
		return text
	}
	found := described(inspect(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"*\"]\n",
		"a/loft.toml":   "[project]\nneeds = []\n", "a/go.mod": mod("a", "b", "c"), "a/a.go": "package a\nimport _ \"skerry.example/b\"\n",
		"b/loft.toml": "[project]\nneeds = [\"c\"]\n", "b/go.mod": mod("b", "c"), "b/b.go": "package b\nimport _ \"skerry.example/c\"\n",
		"c/loft.toml": "", "c/go.mod": mod("c"), "c/c.go": "package c\n",
	}, check.NeedsMissing))
	if !slices.Equal(found, []string{"a/loft.toml:1 error needs-missing a needs b"}) {
		t.Errorf("%q", found)
	}
}

// What a repository inside this one declares is its own, but its files can be read.
func TestARepositoryInsideIsNotChecked(t *testing.T) {
	files := map[string]string{
		"grayloft.toml":            "schema = 1\n[repo]\nprojects = [\"app\"]\n",
		"app/loft.toml":            "[task.build]\nrun = \"true\"\nreads = [\"repo:demo/inner/in\"]\nwrites = [\"out\"]\nprobes = []\n",
		"demo/inner/in":            "x\n",
		"demo/inner/b/loft.toml":   "[task.build]\nrun = \"true\"\n",
		"demo/inner/package.json":  `{"dependencies": {"tide": "1.0.0", "quay": "1.0.0"}}`,
		"demo/inner/grayloft.toml": "schema = 1\n",
	}
	if found := inspect(t, files); len(found) != 0 {
		t.Errorf("%+v", found)
	}
	delete(files, "demo/inner/grayloft.toml")
	if found := inspect(t, files); len(found) < 3 {
		t.Errorf("there is nothing to leave out: %+v", found)
	}
}

// Files that no build includes say nothing about the project around them.
func TestFilesThatNoBuildIncludesAreNoEvidence(t *testing.T) {
	files := map[string]string{
		"grayloft.toml":     "schema = 1\n[repo]\nname = \"ferry\"\nprojects = [\"tides\"]\n[task.build]\nrun = \"go build .\"\nreads = [\"*.go\"]\nwrites = []\nprobes = []\n",
		"go.mod":            "module ferry.example\n\ngo 1.26\n",
		"ferry.go":          "package ferry\n",
		"tides/loft.toml":   "[project]\nneeds = [\"ferry\"]\n[task.build]\nrun = \"go build .\"\nreads = [\"*.go\"]\nwrites = []\nprobes = []\n",
		"tides/t.go":        "package tides\n\nimport _ \"ferry.example\"\n",
		"odd/tides/fuzz.go": "// +build gofuzz\n\npackage odd\n\nimport _ \"ferry.example/tides\"\n",
	}
	for _, dir := range []string{"a", "b", "c", "d"} { // a module that is worth dividing
		files[dir+"/x.go"] = "package " + dir + "\n"
	}
	if found := inspect(t, files, check.NeedsMissing); len(found) != 0 {
		t.Errorf("%+v", found)
	}
	files["odd/tides/fuzz.go"] = "package odd\n\nimport _ \"ferry.example/tides\"\n"
	if found := inspect(t, files, check.NeedsMissing); len(found) != 1 {
		t.Errorf("a file that is built: %+v", found)
	}
}

// A project that reads a file of the project around it, such as a configuration for all directories
// below, does not have to need it; if it does, the need is used.
func TestFilesOfTheProjectAroundAreNoNeed(t *testing.T) {
	files := map[string]string{
		"grayloft.toml":  "schema = 1\n[repo]\nprojects = [\"*\", \"quay/*\"]\n[project]\nname = \"root\"\n",
		"levels.json":    "{}\n",
		"quay/loft.toml": "", "quay/rules.json": "{}\n", "quay/package.json": `{"name": "quay"}`, "quay/main.js": "",
		"quay/page/loft.toml":    "[project]\nneeds = [\"quay\"]\n[task.build]\nrun = \"true\"\nprobes = []\nreads = [\"*.js\", \"repo:levels.json\", \"repo:quay/rules.json\"]\nwrites = []\n",
		"quay/page/package.json": `{"name": "page"}`, "quay/page/main.js": "",
		"tide/loft.toml": "[task.build]\nrun = \"true\"\nprobes = []\nreads = [\"repo:levels.json\", \"repo:quay/rules.json\"]\nwrites = []\n",
	}
	found := described(inspect(t, files, check.NeedsMissing, check.NeedsUnused))
	if want := []string{"tide/loft.toml:1 error needs-missing tide needs quay"}; !slices.Equal(found, want) {
		t.Errorf("found %q, want %q", found, want)
	}
}

// A configuration or a command that names a path to another project uses it, without an import.
func TestANeedThatAPathLeadsToIsUsed(t *testing.T) {
	files := map[string]string{
		"grayloft.toml":  "schema = 1\n[repo]\nprojects = [\"*\"]\n",
		"quay/loft.toml": "", "quay/package.json": `{"name": "quay"}`, "quay/main.js": "",
		"page/loft.toml": "[project]\nneeds = [\"quay\"]\n", "page/package.json": `{"name": "page"}`, "page/main.js": "",
	}
	for _, c := range []struct {
		file, text string
		unused     bool
	}{
		{"page/main.js", "", true},
		{"page/tsconfig.json", `{"compilerOptions": {"paths": {"quay/*": ["../quay/src/*"]}}}`, false},
		{"page/deep/rules.yaml", "from: ../../quay\n", false},
		{"page/deep/rules.yaml", "from: ../quay-side\n", true},
		{"page/loft.toml", "[project]\nneeds = [\"quay\"]\n[task.build]\nrun = \"cp ../quay/main.js .\"\nreuse = \"never\"\n", false},
		{"quay/tsconfig.json", `{"extends": "../quay/base.json"}`, true},
		{"lint.config.js", "import 'quay/rules'\n", true}, // no task reads it
	} {
		changed := maps.Clone(files)
		changed[c.file] = c.text
		if found := inspect(t, changed, check.NeedsUnused); len(found) > 0 != c.unused {
			t.Errorf("%s, %s: %+v", c.file, c.text, found)
		}
	}
	files["lint.config.js"] = "import 'quay/rules'\n"
	files["page/loft.toml"] += "[task.lint]\nrun = \"lint .\"\nreads = [\"*.js\", \"repo:lint.config.js\"]\nwrites = []\nprobes = []\n"
	if found := inspect(t, files, check.NeedsUnused); len(found) != 0 {
		t.Errorf("a configuration that a task reads: %+v", found)
	}
}
