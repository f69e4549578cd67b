package graph

import (
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
)

var update = flag.Bool("update", false, "write the golden files again")

func repo(files map[string]string) fstest.MapFS {
	fsys := fstest.MapFS{}
	for name, text := range files {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return fsys
}

func load(t *testing.T, files map[string]string) *Graph {
	t.Helper()
	g, err := Load(repo(files), "test")
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func addrs(tasks []*Task) []string {
	out := []string{}
	for _, t := range tasks {
		out = append(out, t.Addr())
	}
	return out
}

// A repository with every possible error: all are reported at once, each with
// its position, its line and its fix.
func TestAllErrorsAreReportedAtOnce(t *testing.T) {
	_, err := Load(os.DirFS("testdata/broken"), "broken")
	if err == nil {
		t.Fatal("it was taken")
	}
	got := err.Error() + "\n"
	const file = "testdata/broken.golden"
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, rerr := os.ReadFile(file)
	if rerr != nil {
		t.Fatal(rerr)
	}
	if got != string(want) {
		t.Errorf("got:\n%s\nwant:\n%s", got, want)
	}
	for _, word := range []string{
		"unknown key \"red\" in [task.rates]", "did you mean \"reads\"?", "must be a list of strings, but this is a string",
		"no project has that name", "has no task", "in a cycle: build@a → build@b → build@a", "need each other in a cycle",
		"two projects have the name", "which overlaps the output of", "but neither depends on the other", "is not declared",
	} {
		if !strings.Contains(got, word) {
			t.Errorf("nothing says %q", word)
		}
	}
}

// What follows from a mistake is not reported beside it, with advice that would be wrong.
func TestAMistakeInTheNameOfAKindIsOneError(t *testing.T) {
	const own = "needs = [\"libs/b\"]\ntags = [\"kind:*\", \"x\"]\noffers = [\"kind:*\", \"gen/**\"]\nomit = [\"test\"]\n" +
		"[task.gen]\nrun = \"true\"\nwrites = [\"gen/**\"]\nreads = []\n" +
		"[task.build]\nreads = [\"kind:*\", \"gen/**\"]\nafter = [\"kind:*\", \"lint\"]\nprobes = [\"kind:*\"]\n"
	user := "[task.whole]\nrun = \"true\"\nreads = []\nafter = [\"test@libs/a\"]\n"
	for want, files := range map[string]map[string]string{
		`kind "libb" is not declared`: {"grayloft.toml": kinds, "libs/a/loft.toml": "[project]\nkind = \"libb\"\n" + own},
		`nothing matches "kindz/*.toml"`: {
			"grayloft.toml":    "schema = 1\n[repo]\nprojects = [\"libs/*\", \"apps/*\"]\ninclude = [\"kindz/*.toml\"]\n",
			"libs/a/loft.toml": "[project]\nkind = \"lib\"\n" + own + "settings = [\"level\"]\n",
		},
	} {
		files["libs/b/loft.toml"], files["apps/c/loft.toml"] = "[project]\n", user
		_, err := Load(repo(files), "test")
		if ps, ok := AsProblems(err); !ok || len(ps) != 1 || ps[0].Message != want {
			t.Errorf("%s:\n%v", want, err)
		}
	}
}

func TestFilesThatAreNotTomlAtAll(t *testing.T) {
	for name, text := range map[string]string{
		"unclosed":  "schema = 1\n[repo\n",
		"twice":     "schema = 1\nschema = 1\n",
		"no schema": "[repo]\nname = \"x\"\n",
		"another":   "schema = 2\n",
	} {
		_, err := Load(repo(map[string]string{"grayloft.toml": text}), "test")
		ps, ok := AsProblems(err)
		if !ok || len(ps) == 0 || ps[0].File != "grayloft.toml" || ps[0].Line == 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
}

const kinds = `schema = 1
[repo]
projects = ["libs/*", "apps/*"]
[probe.sh]
run = "sh --version"
[kind.lib]
offers = ["**/*.go", "!**/*_test.go"]
tags = ["go"]
[kind.lib.task.build]
run = "go build"
reads = ["**/*.go", "!**/*_test.go", "needs:*"]
writes = []
after = ["build@needs:*"]
[kind.lib.task.test]
run = "go test"
reads = ["**/*.go", "needs:*"]
writes = []
after = ["build"]
[kind.strict]
tags = ["kind:*", "strict"]
[kind.strict.task.test]
run = "go test -strict"
`

func TestKindsFoldFromLeftToRight(t *testing.T) {
	g := load(t, map[string]string{
		"grayloft.toml":     kinds,
		"libs/a/loft.toml":  "[project]\nname = \"a\"\nkind = [\"lib\", \"strict\"]\ntags = [\"kind:*\", \"own\"]\n[task.test]\nreads = [\"kind:*\", \"testdata/**\"]\n",
		"libs/b/loft.toml":  "[project]\nkind = \"lib\"\nomit = [\"test\"]\nneeds = [\"a\"]\n",
		"apps/c/loft.toml":  "[project]\nneeds = [\"libs/b\"]\n[task.pack]\nrun = [\"tar\", \"c\"]\nafter = [\"build@needs:*\"]\n",
		"apps/no/readme.md": "no project",
	})
	test := g.Task("test@a")
	if got := test.Decl.Run.String(); got != "go test -strict" {
		t.Errorf("the later kind does not win: %q", got)
	}
	if got := test.Decl.Reads.Texts(); !slices.Equal(got, []string{"**/*.go", "needs:*", "testdata/**"}) {
		t.Errorf("reads %v", got)
	}
	if got := g.Project("a").Tags; len(got) != 3 || got[0].Text != "go" || got[2].Text != "own" {
		t.Errorf("tags %v", got)
	}
	if g.Task("test@libs/b") != nil || g.Task("build@libs/b") == nil {
		t.Error("omit left out the wrong task")
	}
	if got := addrs(g.Task("pack@apps/c").Dependencies); !slices.Equal(got, []string{"build@a", "build@libs/b"}) {
		t.Errorf("needs:* is not transitive: %v", got)
	}
	if len(g.Projects) != 3 {
		t.Errorf("projects %v", g.ProjectNames())
	}
}

func TestWhatTasksRead(t *testing.T) {
	g := load(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"libs/*\", \"libs/a/inner\"]\n",
		"libs/a/loft.toml": `[task.own]
run = "true"
writes = ["out/**"]
[task.some]
run = "true"
reads = ["src/**", "!src/skip/**", "src/skip/but.txt", "repo:schemas/*.json", "loft.toml"]
writes = []
`,
		"libs/a/inner/loft.toml": "[task.x]\nrun = \"true\"\n",
	})
	for _, c := range []struct {
		task, path string
		want       bool
	}{
		{"own@libs/a", "libs/a/x.txt", true},
		{"own@libs/a", "libs/a/loft.toml", false},        // read only where it is named
		{"own@libs/a", "libs/a/inner/y.txt", false},      // of another project
		{"own@libs/a", "libs/b.txt", false},              // of no project
		{"some@libs/a", "libs/a/src/deep/z", true},       //
		{"some@libs/a", "libs/a/src/skip/z", false},      // excluded
		{"some@libs/a", "libs/a/src/skip/but.txt", true}, // the last pattern decides
		{"some@libs/a", "schemas/r.json", true},          // from the root
		{"some@libs/a", "libs/a/loft.toml", true},        // named
		{"some@libs/a", "libs/a/other", false},           //
	} {
		if got := g.Task(c.task).ReadsFile(c.path); got != c.want {
			t.Errorf("%s reads %s: %v, want %v", c.task, c.path, got, c.want)
		}
	}
	if w := g.Writer("libs/a/out/x"); w == nil || w.Addr() != "own@libs/a" {
		t.Errorf("libs/a/out/x is written by %v", w)
	}
	if w := g.Writer("libs/a/inner/out/x"); w != nil {
		t.Errorf("writes reach into another project: %s", w.Addr())
	}
}

func TestTransparentTasksPassOnTheirDependencies(t *testing.T) {
	g := load(t, map[string]string{"grayloft.toml": `schema = 1
[task.gen]
run = "true"
writes = ["gen/**"]
reads = ["in"]
[task.check]
run = "true"
writes = []
reads = []
after = ["gen"]
[task.pack]
run = "true"
writes = ["dist"]
reads = []
after = ["check"]
[task.loose]
run = "true"
after = ["pack"]
[task.end]
run = "true"
writes = []
after = ["loose"]
`})
	if got := addrs(g.Task("pack@test").KeyDependencies()); !slices.Equal(got, []string{"gen@test"}) {
		t.Errorf("pack counts %v", got)
	}
	if u := g.Task("end@test").WithoutWrites(); u == nil || u.Name != "loose" {
		t.Errorf("end always runs because of %v", u)
	}
	if got := addrs(g.Dependents([]*Task{g.Task("check@test")})); !reflect.DeepEqual(
		got,
		[]string{"check@test", "pack@test", "loose@test", "end@test"},
	) {
		t.Errorf("after check come %v", got)
	}
}

func TestTheDemoIsValid(t *testing.T) {
	dir := filepath.Join("..", "..", "..", "demo", "skerry")
	g, err := Load(os.DirFS(dir), "skerry")
	if err != nil {
		t.Fatal(err)
	}
	if n := len(g.Projects); n < 18 || n > 22 {
		t.Errorf("%d projects", n)
	}
}

func TestWhatMatchesAPatternIsAProjectIfItHasADeclaration(t *testing.T) {
	task := "[task.x]\nrun = \"true\"\n"
	for pattern, want := range map[string]string{
		"libs/*":       "libs/a libs/b",
		"libs/**":      "libs/a libs/b libs/b/deep",
		"libs/b":       "libs/b",
		"*/b":          "libs/b other/b",
		"libs/[ab]":    "libs/a libs/b",
		"{libs,other}": "",
		"libs/*/deep":  "libs/b/deep",
	} {
		g := load(t, map[string]string{
			"grayloft.toml":    "schema = 1\n[repo]\nprojects = [\"" + pattern + "\"]\n",
			"libs/a/loft.toml": task, "libs/b/loft.toml": task, "libs/b/deep/loft.toml": task, "other/b/loft.toml": task,
			"libs/README":           "a file, no directory",
			"libs/none/x.txt":       "a directory without a declaration",
			"libs/odd/loft.toml/x":  "a directory in place of a declaration",
			".git/libs/a/loft.toml": task,
		})
		var have []string
		for _, p := range g.Projects {
			have = append(have, p.Dir)
		}
		slices.Sort(have)
		if got := strings.Join(have, " "); got != want {
			t.Errorf("%s: the projects are %q, not %q", pattern, got, want)
		}
	}
}

func TestAnAbsolutePathBelongsToNoProject(t *testing.T) {
	g := load(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\".\", \"a\"]\n", "loft.toml": "[task.x]\nrun = \"true\"\n",
		"a/loft.toml": "[task.x]\nrun = \"true\"\n",
	})
	for name, want := range map[string]string{"x.txt": ".", "a/x": "a", "a/b/c": "a", "ab/x": ".", "a": "."} {
		if p := g.Owner(name); p == nil || p.Dir != want {
			t.Errorf("%s belongs to %v, not to %s", name, p, want)
		}
	}
	if p := g.Owner("/a/x"); p != nil {
		t.Errorf("/a/x belongs to %s", p.Dir)
	}
}
