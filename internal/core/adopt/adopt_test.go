package adopt_test

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	. "grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/adopt/sample"
	. "grayloft.example/grayloft/internal/core/survey"
)

// What these tests use of others.
var (
	repo    = sample.Repo
	propose = sample.Propose
	written = sample.Written
	of      = sample.Of
	needs   = sample.Needs
)

var workspaceScenario = map[string]string{
	"go.mod":                   "module ferry.example\n\ngo 1.26\n",
	"main.go":                  "package main\n\nimport _ \"ferry.example/internal/tides\"\n\nfunc main() {}\n",
	"internal/tides/t.go":      "package tides\n\nimport _ \"ferry.example/internal/money\"\n",
	"internal/tides/t_test.go": "package tides\n",
	"internal/money/m.go":      "package money\n",
	"cmd/gate/main.go":         "package main\n\nimport _ \"ferry.example/internal/tides\"\n\nfunc main() {}\n",
	"vendor/x/x.go":            "package x\n",
}

func TestAGoModuleIsOneProjectOrOneForEachDirectory(t *testing.T) {
	s, p := propose(t, repo(workspaceScenario), Choices{})
	if len(s.Projects) != 1 || s.Projects[0].Dir != "." || len(p.Files) != 1 || p.Files[0].Path != "grayloft.toml" {
		t.Errorf("whole: %d projects, %v", len(s.Projects), p.Files)
	}
	s, p = propose(t, repo(workspaceScenario), Choices{Split: map[string]bool{".": true}})
	for dir, want := range map[string][]string{
		".": {"internal/tides"}, "internal/tides": {"internal/money"}, "internal/money": nil, "cmd/gate": {"internal/tides"},
	} {
		if got := needs(of(s, dir)); !slices.Equal(got, want) {
			t.Errorf("%s needs %v, want %v", dir, got, want)
		}
	}
	if of(s, "internal/tides").Task("test") == nil || of(s, "internal/money").Task("test") != nil {
		t.Error("a test task where there are tests, and nowhere else")
	}
	if !slices.Contains(p.Kinds, "go-package") {
		t.Errorf("kinds: %v", p.Kinds)
	}
}

func TestDirectoriesThatImportEachOtherAreMerged(t *testing.T) {
	files := map[string]string{
		"go.mod": "module ferry.example\n", "a/a.go": "package a\n\nimport _ \"ferry.example/b/x\"\n",
		"b/x/x.go": "package x\n", "b/y/y.go": "package y\n\nimport _ \"ferry.example/a\"\n", "c/c.go": "package c\n\nimport _ \"ferry.example/a\"\n",
	}
	s, _ := propose(t, repo(files), Choices{Split: map[string]bool{".": true}})
	if len(s.Projects) != 1 || s.Projects[0].Dir != "." {
		t.Errorf("a circle at the top leaves one project: %v", s.Projects)
	}
	files = map[string]string{
		"go.mod": "module ferry.example\n", "internal/a/a.go": "package a\n\nimport _ \"ferry.example/internal/b/x\"\n",
		"internal/b/x/x.go": "package x\n", "internal/b/y/y.go": "package y\n\nimport _ \"ferry.example/internal/a\"\n",
		"cmd/c/c.go": "package main\n\nimport _ \"ferry.example/internal/a\"\n",
	}
	s, _ = propose(t, repo(files), Choices{Split: map[string]bool{".": true}})
	if got := needs(of(s, "cmd/c")); !slices.Equal(got, []string{"internal"}) || len(s.Projects) != 2 {
		t.Errorf("cmd/c needs %v; %d projects", got, len(s.Projects))
	}
}

var workspace = map[string]string{
	"package.json":                   `{"name": "skerry", "workspaces": {"packages": ["packages/*", "!packages/old"]}, "scripts": {"test": "npm test --workspaces", "deploy": "./deploy.sh"}}`,
	"package-lock.json":              "{}",
	".gitignore":                     "node_modules\ndist/\n",
	"packages/ui/package.json":       `{"name": "@skerry/ui", "scripts": {"build": "node build.mjs", "test": "node --test", "dev": "node serve.mjs"}}`,
	"packages/ui/index.ts":           "export const a: number = 1 / 2; const r = /import \"nobody\"/g;\n",
	"packages/web/package.json":      `{"name": "web", "dependencies": {"@skerry/ui": "*", "left": "1"}, "scripts": {"prebuild": "node gen.mjs", "build": "tsc -p tsconfig.json", "test": "node --test", "lint:js": "node lint.mjs", "format": "node f.mjs --write"}}`,
	"packages/web/tsconfig.json":     "{\n  // where it goes\n  \"compilerOptions\": {\"outDir\": \"./made\", },\n}",
	"packages/web/src/a.ts":          "import type { T } from '../../charts/src/t';\nexport * from \"@skerry/ui/deep\";\nconst x = await import(`no${1}`);\n",
	"packages/charts/package.json":   `{"name": "charts", "scripts": {"build": "node build.mjs --outdir=public/charts", "test": "node --test"}}`,
	"packages/charts/src/t.ts":       "export type T = string;\n",
	"packages/old/package.json":      `{"name": "old", "scripts": {"build": "false"}}`,
	"node_modules/left/package.json": `{"name": "left", "scripts": {"build": "false"}}`,
}

func TestNpmWorkspaces(t *testing.T) {
	s, p := propose(t, repo(workspace), Choices{})
	var dirs []string
	for _, p := range s.Projects {
		dirs = append(dirs, p.Dir)
	}
	if !slices.Equal(dirs, []string{".", "packages/charts", "packages/ui", "packages/web"}) {
		t.Fatalf("projects: %v", dirs)
	}
	if got := needs(of(s, "packages/web")); !slices.Equal(got, []string{"packages/charts", "packages/ui"}) {
		t.Errorf("needs by manifest and by imports: %v", got)
	}
	for dir, want := range map[string]string{"packages/web": "made/**", "packages/charts": "public/charts/**", "packages/ui": "dist/**"} {
		if got := of(s, dir).Task("build").Writes; !slices.Equal(got, []string{want}) {
			t.Errorf("%s writes %v, want %s", dir, got, want)
		}
	}
	if b := of(s, "packages/web").Task("build"); !strings.Contains(b.Script, "gen.mjs") ||
		of(s, "packages/web").Task("prebuild") != nil {
		t.Error("what npm runs before a script belongs to it")
	}
	if x := of(s, "packages/web").Task("lint-js"); x == nil || x.Run != "npm run --silent lint:js" {
		t.Errorf("a name that no task may have: %+v", x)
	}
	left := strings.Join(p.NotAdopted, "\n")
	for _, want := range []string{"deploy@skerry", "test@skerry: it runs the task of the same name in other projects", "dev@packages/ui", "format@packages/web"} {
		if !strings.Contains(left, want) && !strings.Contains(strings.Join(p.Never, "\n"), want) {
			t.Errorf("%s looks safe; left out: %v, never: %v", want, p.NotAdopted, p.Never)
		}
	}
}

// A workspace that is declared in a file of its own has the packages that this names.
func TestAWorkspaceInAFileOfItsOwn(t *testing.T) {
	for text, want := range map[string][]string{
		"packages:\n  - 'packages/*'   # all\n  - \"!packages/old\"\n": {".", "packages/charts", "packages/ui", "packages/web"},
		"packages: [./packages/ui]\ncatalog:\n  left: ^1.0.0\n":        {".", "packages/ui"},
		"onlyBuiltDependencies: [left]\n":                              {".", "packages/charts", "packages/old", "packages/ui", "packages/web"},
		"packages:\n\t- x\n":                                           {".", "packages/charts", "packages/old", "packages/ui", "packages/web"},
	} {
		files := maps.Clone(workspace)
		delete(files, "package-lock.json")
		files["package.json"] = strings.Replace(files["package.json"], "workspaces", "others", 1)
		files["pnpm-lock.yaml"], files["pnpm-workspace.yaml"] = "lockfileVersion: '9.0'\n", text
		s, _ := propose(t, repo(files), Choices{})
		var dirs []string
		for _, p := range s.Projects {
			dirs = append(dirs, p.Dir)
		}
		if !slices.Equal(dirs, want) {
			t.Errorf("%s: %v", text, dirs)
		}
		noted := strings.Contains(strings.Join(s.Notes, "\n"), "pnpm-workspace.yaml is not read")
		if noted != strings.Contains(text, "\t") {
			t.Errorf("%s: %q", text, s.Notes)
		}
	}
}

func TestATaskThatDiffersFromItsKindDoesNotInherit(t *testing.T) {
	one := `{"name": "a", "scripts": {"build": "node b.mjs --out dist/a.js", "test": "node --test"}}`
	r := repo(map[string]string{
		"package.json": `{"workspaces": ["*"]}`, "a/package.json": one, "b/package.json": strings.Replace(one, `"a"`, `"b"`, 1),
		"c/package.json": `{"name": "c", "scripts": {"test": "node --test"}}`,
	})
	_, p := propose(t, r, Choices{})
	g := written(t, r, p)
	if c := g.Task("test@c"); len(p.Kinds) != 1 || len(c.Dependencies) != 0 || len(g.Task("test@a").Dependencies) != 1 {
		t.Errorf("kinds %v; test@c comes after %d tasks", p.Kinds, len(c.Dependencies))
	}
}

func TestASecondAdoptionProposesOnlyWhatIsNew(t *testing.T) {
	r := repo(workspace)
	_, p := propose(t, r, Choices{})
	g := written(t, r, p)
	if again := Propose(Inspect(r, Choices{}), Basics{Name: "skerry"}, g.Repo); len(again.Files) != 0 {
		t.Fatalf("nothing is new, and it proposes %v", again.Files)
	}
	m := r.FS.(fstest.MapFS)
	root := strings.Replace(
		string(m["grayloft.toml"].Data),
		`projects = ["packages/*"]`,
		"projects = [ # where they are\n  \"packages/*\" # all of them\n]",
		1,
	)
	m["grayloft.toml"] = &fstest.MapFile{Data: []byte(root)}
	m["tools/pack/package.json"] = &fstest.MapFile{Data: []byte(`{"name": "pack", "scripts": {"test": "node --test"}}`)}
	m["package.json"] = &fstest.MapFile{Data: []byte(`{"workspaces": ["packages/*", "tools/*", "!packages/old"]}`)}
	m["packages/ui/package.json"] = &fstest.MapFile{
		Data: []byte(
			`{"name": "@skerry/ui", "scripts": {"build": "node build.mjs", "test": "node --test", "check": "node c.mjs"}}`,
		),
	}
	r.Files = slices.Sorted(maps.Keys(m))
	again := Propose(Inspect(r, Choices{}), Basics{Name: "skerry"}, g.Repo)
	var paths []string
	for _, f := range again.Files {
		paths = append(paths, f.Path)
		if f.Path == "grayloft.toml" &&
			(!strings.Contains(f.New, "\"packages/*\", # all of them\n  \"tools/pack\",\n]") || !strings.Contains(f.New, "# where they are")) {
			t.Errorf("the list, with its comments: %s", f.New)
		}
		if f.Old != "" && !strings.HasPrefix(f.New, strings.TrimRight(f.Old, "\n")) && f.Path != "grayloft.toml" {
			t.Errorf("%s was changed where it should grow only:\n%s", f.Path, f.New)
		}
	}
	if !slices.Equal(paths, []string{"grayloft.toml", "packages/ui/loft.toml", "tools/pack/loft.toml"}) {
		t.Errorf("files: %v", paths)
	}
	written(t, r, again)
}

func TestMakefilesScriptsCargoAndPython(t *testing.T) {
	s, p := propose(t, repo(map[string]string{
		"Makefile":              ".PHONY: all check \\\n  site publish serve\nOUT := site\nall: check\ncheck: ## look at it\n\t@sh checks.sh\nsite: page.md\n\tmkdir -p $(OUT) public\n\tcp page.md public/\npublish:\n\tgit push\nserve:\n\tpython3 -m http.server\nreal.o: x.c\n\tcc x.c\n",
		"scripts/stamp.sh":      "#!/bin/bash\n# note the day\ndate +%F > day\n",
		"scripts/gen-routes.sh": "#!/bin/sh\nset -e\nmkdir -p gen\ncase \"$MODE\" in\n  fast|full) ;;\n  *) exit 2 ;;\nesac\nMODE=${MODE:-fast}\ncat routes.csv > gen/routes.txt\necho \"$API_TOKEN $REGION $out\"\n",
		"scripts/readme.md":     "no script\n",
		"Cargo.toml":            "[workspace]\nmembers = [\"crates/*\"]\n",
		"crates/a/Cargo.toml":   "[package]\nname = \"a\"\n[dependencies]\nb = { path = \"../b\" }\n",
		"crates/b/Cargo.toml":   "[package]\nname = \"b\"\n",
		"py/one/pyproject.toml": "[project]\nname = \"Skerry.One\"\ndependencies = [\"skerry_two>=1\"]\n[tool.pytest]\n",
		"py/two/pyproject.toml": "[project]\nname = \"skerry-two\"\n", "py/two/tests/t.py": "",
	}), Choices{})
	root := of(s, ".")
	if c := root.Task("check"); c == nil || c.Run != "make --silent check" || c.Help != "look at it" {
		t.Errorf("check: %+v", c)
	}
	if g := root.Task("gen-routes"); g == nil || g.Run != "sh scripts/gen-routes.sh" {
		t.Errorf("gen-routes: %+v", g)
	}
	if st := root.Task("stamp"); st.Sort != NeverReusable || st.Run != "bash scripts/stamp.sh" || st.Help != "note the day" {
		t.Errorf("stamp: %+v", st)
	}
	if root.Task("real.o") != nil || root.Task("readme") != nil {
		t.Error("a target that is a file, or a text that is no script, became a task")
	}
	left := strings.Join(p.NotAdopted, "\n")
	if !strings.Contains(left, "publish@") || !strings.Contains(left, "serve@") {
		t.Errorf("left out: %v", p.NotAdopted)
	}
	if got := needs(of(s, "crates/a")); !slices.Equal(got, []string{"crates/b"}) {
		t.Errorf("crates/a needs %v", got)
	}
	if got := needs(of(s, "py/one")); !slices.Equal(got, []string{"py/two"}) {
		t.Errorf("py/one needs %v", got)
	}
	uses := map[string]Use{}
	for _, v := range s.Variables {
		uses[v.Name] = v.Use
	}
	if want := (map[string]Use{"API_TOKEN": AsSecret, "MODE": AsSetting, "REGION": AsEnv}); !maps.Equal(uses, want) {
		t.Errorf("variables: %v, want %v", uses, want)
	}
	if f := p.Files[slices.IndexFunc(p.Files, func(f File) bool { return f.Path == "grayloft.toml" })]; !strings.Contains(
		f.New,
		"[setting.mode]\nvalues  = [\"fast\", \"full\"]\ndefault = \"fast\"",
	) ||
		(root.Task("gen-routes").Sort == Reusable && !strings.Contains(f.New, "MODE=%{setting.mode} sh scripts/gen-routes.sh")) {
		t.Errorf("the setting:\n%s", f.New)
	}
}

func TestScriptsBelongToTheDirectoryAroundThem(t *testing.T) {
	script := func(comment string) string { return "#!/bin/sh\n" + comment + "true > out.txt\n" }
	s, _ := propose(t, repo(map[string]string{
		"bin/a.sh": script("# Copyright 2030 Skerry Lines\n# All rights reserved.\n#\n# draw the map\n"), "infra/bin/b.sh": script("# vim: ts=4\n"),
		"libs/fares/setup.py": "", "libs/fares/test/t.py": "", "libs/charts/scripts/c.sh": script("# -----\n# list the charts\n"),
		"libs/fares/data/deep/bin/d.sh": script(""), "examples/x/y/tools/e.sh": script(""),
	}), Choices{})
	found := map[string]string{}
	for _, p := range s.Projects {
		for _, task := range p.Tasks {
			if task.From != "libs/fares/setup.py" {
				found[task.Name+"@"+p.Dir] = task.Run + ": " + task.Help
			}
		}
	}
	want := map[string]string{
		"a@.": "sh bin/a.sh: draw the map", "b@infra": "sh bin/b.sh: ", "c@libs/charts": "sh scripts/c.sh: list the charts",
	}
	if !maps.Equal(found, want) {
		t.Errorf("%q, want %q", found, want)
	}
	if notes := strings.Join(s.Notes, "\n"); !strings.Contains(notes, "libs/fares/data/deep/bin is not directly in a project: its shell scripts (1)") ||
		!strings.Contains(notes, "examples/x/y/tools is not") {
		t.Errorf("what is left out is not said: %s", notes)
	}
}

func TestASinglePackageIsDeclaredInOneFile(t *testing.T) {
	_, p := propose(
		t,
		repo(map[string]string{"package.json": `{"name": "one", "scripts": {"test": "node --test"}}`, "a.test.js": ""}),
		Choices{},
	)
	if len(p.Files) != 1 || p.Files[0].Path != "grayloft.toml" || !strings.Contains(p.Files[0].New, "[task.test]") {
		t.Errorf("%+v", p.Files)
	}
}

// Scripts have any names: those that tasks may not have are changed, and those of which
// nothing is left are no scripts.
func TestScriptsOfAnyNameBecomeTasks(t *testing.T) {
	r := repo(map[string]string{
		"package.json": `{"name": "pier", "scripts": {"----- checks -----": "echo", "-----": "echo", "lint:all": "lint", "test (unit)!": "node --test", "a\\b": "c"}}`,
	})
	s, p := propose(t, r, Choices{})
	var names []string
	for _, x := range of(s, ".").Tasks {
		names = append(names, x.Name)
	}
	slices.Sort(names)
	if want := []string{"a-b", "checks", "lint-all", "test--unit"}; !slices.Equal(names, want) || len(p.Files) == 0 {
		t.Errorf("%q, want %q", names, want)
	}
}
