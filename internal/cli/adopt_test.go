package cli_test

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// unadopted is a repository with working scripts and no declarations.
var unadopted = map[string]string{
	"package.json":                  `{"name": "skerry", "private": true, "workspaces": ["packages/*"]}`,
	".gitignore":                    "node_modules/\ndist/\n",
	"packages/rates/package.json":   `{"name": "rates", "scripts": {"build": "node build.mjs", "test": "node --test", "dev": "node serve.mjs"}}`,
	"packages/rates/rates.json":     `{"gullhaven": 980}`,
	"packages/rates/build.mjs":      "import fs from 'node:fs'; fs.mkdirSync('dist', {recursive: true}); fs.writeFileSync('dist/rates.js', 'export default ' + fs.readFileSync('rates.json') + (process.env.BANNER || '') + '\\n');\n",
	"packages/rates/rates.test.mjs": "import test from 'node:test'; import fs from 'node:fs'; test('there', () => { JSON.parse(fs.readFileSync('rates.json')); });\n",
	"packages/web/package.json":     `{"name": "web", "dependencies": {"rates": "*"}, "scripts": {"build": "node build.mjs --out dist/page.html", "test": "node --test"}}`,
	"packages/web/build.mjs":        "import fs from 'node:fs'; import rates from '../rates/dist/rates.js'; fs.mkdirSync('dist', {recursive: true}); fs.writeFileSync('dist/page.html', JSON.stringify(rates));\n",
	"packages/web/a.test.mjs":       "import test from 'node:test'; import fs from 'node:fs'; test('page', () => { fs.readFileSync('dist/page.html'); });\n",
	"tides/go.mod":                  "module tides.example\n\ngo 1.26\n",
	"tides/t.go":                    "package tides\n\nfunc High() int { return 4 }\n",
	"tides/t_test.go":               "package tides\n\nimport \"testing\"\n\nfunc TestHigh(t *testing.T) {\n\tif High() != 4 {\n\t\tt.Error(High())\n\t}\n}\n",
	"Makefile":                      ".PHONY: notes\nnotes:\n\tmkdir -p public && cat notes.txt > public/notes.html\n",
	"notes.txt":                     "calm sea\n",
}

func TestAdoptedScriptsRunAndAreThenCurrent(t *testing.T) {
	t.Parallel()
	r := trial.New(t, unadopted)
	dry := r.Grayloft("adopt", "--dry-run") // which asks nothing
	if dry.Code != 0 || r.Has("grayloft.toml") || !strings.Contains(dry.Out, "nothing was") ||
		!strings.Contains(dry.Out, "+schema = 1") {
		t.Fatalf("dry run: exit %d\n%s%s", dry.Code, dry.Out, dry.Err)
	}
	a := r.Grayloft("adopt", "--yes")
	if a.Code != 0 || !strings.Contains(a.Out, "grayloft run build test") ||
		!strings.Contains(a.Out, "dev@packages/rates: its name suggests that it serves") {
		t.Fatalf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	for name, text := range unadopted {
		if r.Read(name) != text {
			t.Errorf("%s was touched", name)
		}
	}
	r.Commit("declarations")
	first := r.Run("build", "test")
	if !first.OK || len(first.Tasks) != 6 {
		t.Fatalf("the first run: %+v\n%s", first.Outcomes(), first.Answer.Out)
	}
	if again := r.Run("build", "test"); len(again.Ran()) != 0 {
		t.Errorf("the second run ran %v", again.Ran())
	}
	r.Append("packages/rates/rates.test.mjs", "// more\n")
	if got := r.Run("build", "test").Ran(); got["test@packages/rates"] != "files" || got["build@packages/web"] != "" ||
		got["test@packages/web"] != "" {
		t.Errorf("a test changed, and these ran: %v", got)
	}
	r.Write("packages/rates/rates.json", `{"gullhaven": 995}`)
	if got := r.Run("build", "test").Ran(); got["build@packages/web"] == "" || got["test@tides"] != "" ||
		!strings.Contains(r.Read("packages/web/dist/page.html"), "995") {
		t.Errorf("a rate changed, and these ran: %v, %s", got, r.Read("packages/web/dist/page.html"))
	}
	if rep := r.Run("notes"); !rep.OK || !r.Has("public/notes.html") {
		t.Errorf("a target of the Makefile: %+v", rep.Tasks)
	}
	if a := r.Grayloft("adopt", "--yes"); !strings.Contains(a.Out, "Everything that was found is already declared") {
		t.Errorf("again: %s", a.Out)
	}
}

// answer runs the client with answers to its questions.
func answer(r *trial.Repo, answers string, args ...string) trial.Answer {
	cmd := r.Command(args...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(answers), &out, &errs
	_ = cmd.Run()
	return trial.Answer{Out: out.String(), Err: errs.String(), Code: cmd.ProcessState.ExitCode()}
}

func TestAdoptAsksOneQuestionAtATime(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"package.json": `{"name": "x", "scripts": {"build": "sh build.sh \"$REGION\"", "test": "true"}}`, "build.sh": "mkdir -p made; echo $1 > made/x\n",
	})
	// The answers: name, branch, use of REGION (after one invalid answer),
	// outputs of build, write.
	a := answer(r, "skerry\n\nwhatever\nsecret\nmade\nno\n", "adopt")
	if a.Code != 1 || r.Has("grayloft.toml") || !strings.Contains(a.Out, "Please answer with one of: env, secret, nothing") {
		t.Fatalf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if a := answer(r, "skerry\n", "adopt"); a.Code != 2 || r.Has("grayloft.toml") ||
		!strings.Contains(a.Err, "nothing was written") {
		t.Fatalf("answers that end: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if a := answer(r, "skerry\n\ns\nmade\nyes\n", "adopt"); a.Code != 0 {
		t.Fatalf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	text := r.Read("grayloft.toml")
	for _, want := range []string{`name  = "skerry"`, `writes  = ["made"]`, `secrets = ["REGION"]`} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is not in\n%s", want, text)
		}
	}
	if rep := r.Run("build"); !rep.OK || !r.Has("made/x") {
		t.Errorf("%+v", rep.Tasks)
	}
}

func TestAdoptSaysWhatItCannotDo(t *testing.T) {
	t.Parallel()
	empty := trial.New(t, map[string]string{"readme": "x\n"})
	if a := empty.Grayloft("adopt", "--yes"); a.Code != 0 || !strings.Contains(a.Out, "Nothing to adopt") {
		t.Errorf("nothing there: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	broken := trial.New(t, map[string]string{"package.json": "{", "Makefile": ".PHONY: test\ntest:\n\ttrue\n"})
	if a := broken.Grayloft("adopt", "--yes"); a.Code != 0 || !strings.Contains(a.Out, "package.json is skipped") {
		t.Errorf("a broken manifest: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	bare := &trial.Repo{T: t, Dir: t.TempDir(), Env: empty.Env}
	if a := bare.Grayloft("adopt", "--yes"); a.Code != 2 || !strings.Contains(a.Err, "git init") {
		t.Errorf("no git: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := bare.Grayloft("run", "x"); a.Code != 2 || !strings.Contains(a.Err, "grayloft adopt") {
		t.Errorf("the way there: exit %d, %s", a.Code, a.Err)
	}
}

var templated = map[string]string{
	"grayloft.toml":             "schema = 1\n[repo]\nname = \"skerry\"\nprojects = [\"libs/*\"]\n[kind.lib]\ntemplate = \"build/lib\"\n[kind.bare]\n[kind.lib.task.test]\nrun = \"sh test.sh\"\nwrites = []\n",
	"build/lib/loft.toml":       "[project]\nkind = \"lib\"\ntags = [\"%{base}\"]\n",
	"build/lib/test.sh":         "grep -q 'package %{ident} in %{dir} of %{repo}' src/%{base}.txt\n",
	"build/lib/src/%{base}.txt": "package %{ident} in %{dir} of %{repo}\n",
	"libs/tides/loft.toml":      "[project]\nkind = \"lib\"\nomit = [\"test\"]\n",
}

func TestAdoptLeavesOtherDeclarationsAlone(t *testing.T) {
	t.Parallel()
	files := maps.Clone(unadopted)
	files["samples/quay/grayloft.toml"] = "schema = 1\n[repo]\nprojects = [\"a\"]\n"
	files["samples/quay/a/loft.toml"] = "[project]\n"
	files["samples/quay/a/package.json"] = `{"name": "a", "scripts": {"build": "node build.mjs"}}`
	files["samples/quay/inner/grayloft.toml"] = "schema = 1\n"
	files["packages/rates/build.mjs"] += "process.env.GRAYLOFT_TOKEN;\n"
	r := trial.New(t, files)
	a := r.Grayloft("adopt", "--yes")
	if a.Code != 0 || strings.Count(a.Out, "a repository of its own") != 1 || strings.Contains(a.Out, "build@a") ||
		r.Read("samples/quay/a/loft.toml") != "[project]\n" {
		t.Errorf("a repository inside: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if !regexp.MustCompile(`GRAYLOFT_TOKEN +nothing `).MatchString(a.Out) {
		t.Errorf("a variable of the client is proposed for tasks:\n%s", a.Out)
	}
	// Declarations that no root file lists cannot be read, and are not guessed at.
	files = maps.Clone(unadopted)
	files["packages/rates/loft.toml"] = "[task.count]\nrun = \"wc rates.json\"\nreads = [\"rates.json\"]\nwrites = []\nprobes = []\n"
	r = trial.New(t, files)
	a = r.Grayloft("adopt", "--yes")
	_, text, _ := strings.Cut(a.Err, "with\n\n")
	text, _, _ = strings.Cut(text, "\n\n")
	if a.Code != 2 || !strings.Contains(text, `"packages/rates"`) {
		t.Fatalf("without a root file: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	r.Write("grayloft.toml", text)
	if a = r.Grayloft("adopt", "--yes"); a.Code != 0 || r.Grayloft("run", "count", "test@packages/rates").Code != 0 {
		t.Errorf("with what it says: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
}

func TestANewProjectPassesAtOnce(t *testing.T) {
	t.Parallel()
	r := trial.New(t, templated)
	a := r.Grayloft("new", "lib", "libs/fast-ferry")
	if a.Code != 0 || !strings.Contains(a.Out, "grayloft run test@libs/fast-ferry") {
		t.Fatalf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if got := r.Read("libs/fast-ferry/src/fast-ferry.txt"); got != "package fastferry in libs/fast-ferry of skerry\n" {
		t.Errorf("the names: %q", got)
	}
	if rep := r.Run("test@libs/fast-ferry"); !rep.OK {
		t.Errorf("%+v", rep.Tasks)
	}
	for _, c := range []struct{ args, want string }{
		{"new lib libs/fast-ferry", "nothing was made"},
		{"new lib apps/x", `no pattern of [repo] projects in grayloft.toml matches "apps/x"`},
		{"new lip libs/x", `did you mean "lib"?`},
		{"new bare libs/x", `kind "bare" has no template`},
		{"new lib", "needs a kind and a directory"},
	} {
		if a := r.Grayloft(strings.Fields(c.args)...); a.Code == 0 || !strings.Contains(a.Err, c.want) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
	if got := r.Read("libs/tides/loft.toml"); got != templated["libs/tides/loft.toml"] || r.Has("libs/x") || r.Has("apps") {
		t.Error("something was made or changed that should not have been")
	}
}

func TestShowSaysWhereEachPartComesFrom(t *testing.T) {
	t.Parallel()
	r := trial.New(t, settled)
	r.Write("grayloft.toml", r.Read("grayloft.toml")+"[pick.both]\nwhere = \"a\"\n[probe.p]\nrun = \"true\"\n")
	for _, c := range []struct{ args, want string }{
		{"show build@a --mode release", `runs        sh -e -c 'echo speed > out'  kind k, grayloft.toml:`},
		{"show build@a --mode release", `settings    optimise = speed  mode release`},
		{"show build@a", `optimise = none  default`},
		{"show note@a", `GRAYLOFT_SETTING_BANNER=hello  setting banner`},
		{"show kind:k", "projects    a"},
		{"show optimise", "none, size, speed"},
		{"show optimise", "in mode     release: speed"},
		{"show mode:release", "copies = 3"},
		{"show pick:both", "tasks       3"},
		{"show probe:p", "it runs in every run"},
		{"show a", "kind        k"},
	} {
		if a := r.Grayloft(strings.Fields(c.args)...); a.Code != 0 || !strings.Contains(a.Out, c.want) {
			t.Errorf("%s: %q is not in exit %d\n%s%s", c.args, c.want, a.Code, a.Out, a.Err)
		}
	}
	for _, c := range []struct{ args, want string }{
		{"show optimize", `did you mean "optimise"?`}, {"show kind:kk", `no kind is named "kk"; did you mean "k"?`}, {"new nothing x", `no kind is named "nothing": the names are `},
		{"show colour:x", "use kind:, setting:, mode:"}, {"show build", "add the project: build@…"},
	} {
		if a := r.Grayloft(strings.Fields(c.args)...); a.Code != 2 || !strings.Contains(a.Err, c.want) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
}

func TestGraphInEveryForm(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	for args, want := range map[string]string{
		"graph":                             "app\n└─ lib\n",
		"graph --of tasks test@app":         "test@app\n└─ build@app\n   └─ generate@lib\n",
		"graph --as dot":                    "\"app\" -> \"lib\";",
		"graph --as mermaid":                "n0 --> n1",
		"graph --as mermaid --of tasks":     "[\"generate@lib\"]",
		"graph --pick lib":                  "lib\n",
		"graph --as json --of tasks @never": "",
	} {
		a := r.Grayloft(strings.Fields(args)...)
		if want != "" && (a.Code != 0 || !strings.Contains(a.Out, want)) {
			t.Errorf("%s: exit %d\n%s%s", args, a.Code, a.Out, a.Err)
		}
	}
	var d struct {
		Nodes []string
		Edges [][2]string
	}
	a := r.Grayloft("graph", "--format", "json")
	if err := json.Unmarshal([]byte(a.Out), &d); err != nil || len(d.Nodes) != 2 || len(d.Edges) != 1 ||
		d.Edges[0] != [2]string{"app", "lib"} {
		t.Errorf("%v: %s", err, a.Out)
	}
}

func TestCompletionKnowsTheNames(t *testing.T) {
	t.Parallel()
	r := trial.New(t, settled)
	for args, want := range map[string]string{
		"run b": "build\nbuild@\n", "run build@": "build@a\n", "show set": "setting:banner\nsetting:copies\nsetting:optimise\n",
		"run --set opt": "optimise=none\noptimise=size\noptimise=speed\n", "run --mode ": "release\n", "run --logs f": "live\nwhole\nfailures\n",
		"why no": "note@a\n", "new ": "k\n", "gra": "graph\t",
	} {
		words := strings.Split(args, " ")
		a := r.Grayloft(append([]string{"__complete"}, words...)...)
		if !strings.HasPrefix(a.Out, want) {
			t.Errorf("%q completes to %q, want %q", args, a.Out, want)
		}
	}
	a := r.Grayloft("__complete", "run", "--pick", "changed and kind:")
	if !strings.HasPrefix(a.Out, "changed and kind:k\n") {
		t.Errorf("a pick completes to %q", a.Out)
	}
}

func TestCacheCommands(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Run("--pick", "all")
	var s struct {
		Entries int
		Repos   map[string]int
	}
	if err := json.Unmarshal([]byte(r.Grayloft("cache", "stats", "--format", "json").Out), &s); err != nil || s.Entries == 0 ||
		s.Repos[trial.Repository(t)] != s.Entries {
		t.Errorf("%+v, %v", s, err)
	}
	if a := r.Grayloft("cache", "verify"); a.Code != 0 || !strings.Contains(a.Out, "none is damaged") {
		t.Errorf("verify: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	segments, err := filepath.Glob(filepath.Join(strings.TrimPrefix(r.Env[0], "GRAYLOFT_CACHE="), "segments", "*.tar"))
	if err != nil || len(segments) == 0 {
		t.Fatal(segments, err)
	}
	text, err := os.ReadFile(segments[0])
	if err != nil {
		t.Fatal(err)
	}
	text[512] ^= 1 // the first blob
	if err := os.WriteFile(segments[0], text, 0o644); err != nil {
		t.Fatal(err)
	}
	if a := r.Grayloft("cache", "verify"); a.Code != 1 || !strings.Contains(a.Out, "deleted 1 damaged one. What is needed is") {
		t.Errorf("verify, with a damaged blob: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("cache", "verify"); a.Code != 0 || !strings.Contains(a.Out, "none is damaged") {
		t.Errorf("verify once more: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	for _, c := range []struct{ args, want string }{
		{"cache trim", "needs --size"}, {"cache trim --size lots", "write it like 5GB"}, {"cache trim --age soon", "write it like 30d"}, {"cache", "which command of cache: forget, share, stats, trim, verify?"},
	} {
		if a := r.Grayloft(strings.Fields(c.args)...); a.Code != 2 || !strings.Contains(a.Err, c.want) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
	if a := r.Grayloft("cache", "trim", "--size", "1kB", "--age", "1d"); a.Code != 0 ||
		!strings.Contains(a.Out, "Deleted 0 entries") {
		t.Errorf("what is in use is not trimmed: %s%s", a.Out, a.Err)
	}
	if rep := r.Run("--pick", "all"); len(rep.Ran()) != 0 {
		t.Errorf("after trimming nothing, these ran: %v", rep.Ran())
	}
}

// What is declined is not proposed again, and what changed since is reported and left
// alone.
func TestAdoptingAgainReportsWhatChanged(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"package.json":          "{\"private\": true, \"workspaces\": [\"web/*\"]}\n",
		"web/page/package.json": "{\"name\": \"page\", \"scripts\": {\"build\": \"node b.mjs\", \"lint\": \"node l.mjs\"}}\n",
		"web/page/b.mjs":        "",
		"web/kit/package.json":  "{\"name\": \"kit\", \"scripts\": {\"build\": \"node b.mjs\"}}\n",
		"web/old/package.json":  "{\"name\": \"old\", \"scripts\": {\"test\": \"node --test\"}}\n",
	})
	answers := func(lines string) trial.Answer {
		t.Helper()
		cmd := r.Command("adopt")
		cmd.Stdin = strings.NewReader(lines)
		out, err := cmd.CombinedOutput()
		if err != nil && cmd.ProcessState.ExitCode() < 0 {
			t.Fatal(err)
		}
		return trial.Answer{Out: string(out), Code: cmd.ProcessState.ExitCode()}
	}
	// Name, branch, and two outputs that nothing shows; then no, what to skip, and yes.
	a := answers("\n\n\n\nno\nlint@web/page, web/old\nyes\n")
	if a.Code != 0 || !strings.Contains(r.Read("grayloft.toml"), "[adopt]\nskip = [\"lint@web/page\", \"web/old\"]\n") ||
		r.Has("web/old/loft.toml") || strings.Contains(r.Read("web/page/loft.toml"), "lint") {
		t.Fatalf("exit %d, %s\n%s", a.Code, a.Out, r.Read("grayloft.toml"))
	}
	if a := r.Grayloft("adopt"); a.Code != 0 || !strings.Contains(a.Out, "already declared, or skipped (2 tasks)") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	before := r.Read("web/page/loft.toml")
	r.Write(
		"web/page/package.json",
		"{\"name\": \"page\", \"scripts\": {\"pack\": \"node b.mjs\"}, \"dependencies\": {\"kit\": \"*\"}}\n",
	)
	r.Remove("web/kit/package.json")
	a = r.Grayloft("adopt", "--dry-run")
	for _, says := range []string{
		"build@web/page runs npm run --silent build, which is gone: name it in omit (web/page/loft.toml:1)",
		"web/kit has no manifest, Makefile or source any more that its tasks run: remove web/kit/loft.toml", "+[task.pack]",
	} {
		if a.Code != 0 || !strings.Contains(a.Out, says) {
			t.Errorf("exit %d, it does not say %q:\n%s%s", a.Code, says, a.Out, a.Err)
		}
	}
	r.Write("web/kit/package.json", "{\"name\": \"kit\"}\n")
	if a := r.Grayloft("adopt", "--dry-run"); !strings.Contains(
		a.Out,
		"web/page uses web/kit (kit in web/page/package.json)",
	) {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	if r.Read("web/page/loft.toml") != before {
		t.Error("a dry run changed a declaration")
	}
}

// The modules of a Go workspace see of each other what the go command reads, so their
// tasks run sealed as they are adopted. Files for another system are left alone.
func TestAGoWorkspaceRunsSealedAsItIsAdopted(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	files := map[string]string{"go.work": "go 1.24\n\nuse (\n\t./libs/a\n\t./libs/b\n\t./app\n\t./far\n)\n"}
	for _, dir := range []string{"libs/a", "libs/b", "app", "far"} {
		files[dir+"/go.mod"] = "module skerry.example/" + dir + "\n\ngo 1.24\n"
	}
	files["libs/a/a.go"] = "package a\n\nconst A = 1\n"
	files["libs/a/a_test.go"] = "package a\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) {\n\tif A != 1 {\n\t\tt.Fatal()\n\t}\n}\n"
	files["libs/b/b.go"] = "package b\n\nimport \"skerry.example/libs/a\"\n\nconst B = a.A\n"
	files["app/main.go"] = "package main\n\nimport \"skerry.example/libs/b\"\n\nfunc main() { println(b.B) }\n"
	files["far/far.go"] = "//go:build plan9\n\npackage far\n"
	r := trial.New(t, files)
	a := r.Grayloft("adopt", "--yes")
	if a.Code != 0 || !strings.Contains(a.Out, "far has no build and no vet") || r.Has("far/loft.toml") {
		t.Fatalf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	r.Commit("adopted")
	for _, task := range []string{"build@app", "test@libs/a", "vet@libs/b"} {
		if a := r.Grayloft("reproduce", task); a.Code != 0 || !strings.Contains(a.Out, "wrote nothing in either run") {
			t.Errorf("%s: exit %d, %s%s", task, a.Code, a.Out, a.Err)
		}
	}
	if a := r.Grayloft("check"); a.Code != 0 || a.Out != "Nothing to change.\n" {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
}

// An npm workspace with a lock file finds its packages sealed, as it is adopted: those
// that are installed, and those of its own; the key has the part of the lock file that a
// package uses.
func TestAnNpmWorkspaceRunsSealedAsItIsAdopted(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	lock := `{"name": "pier", "lockfileVersion": 3, "requires": true, "packages": {
		"": {"name": "pier", "workspaces": ["packages/*"]},
		"packages/app": {"name": "@pier/app", "version": "1.0.0", "dependencies": {"@pier/kit": "*"}},
		"packages/kit": {"name": "@pier/kit", "version": "1.0.0", "dependencies": {"tidy": "^1.0.0"}},
		"node_modules/@pier/app": {"resolved": "packages/app", "link": true},
		"node_modules/@pier/kit": {"resolved": "packages/kit", "link": true},
		"node_modules/tidy": {"version": "1.0.0", "bin": {"tidy": "cli.js"}}}}`
	r := trial.New(t, map[string]string{
		"package.json":              `{"name": "pier", "private": true, "workspaces": ["packages/*"]}`,
		"package-lock.json":         lock,
		".gitignore":                "node_modules/\nout/\n",
		"packages/kit/package.json": `{"name": "@pier/kit", "version": "1.0.0", "dependencies": {"tidy": "^1.0.0"}, "scripts": {"test": "tidy"}}`,
		"packages/kit/index.js":     "module.exports = require('tidy');\n",
		"packages/app/package.json": `{"name": "@pier/app", "version": "1.0.0", "dependencies": {"@pier/kit": "*"}, "scripts": {"build": "node make.js"}}`,
		"packages/app/make.js":      "const fs = require('fs');\nfs.mkdirSync('out');\nfs.writeFileSync('out/x', require('@pier/kit'));\n",
	})
	r.Write("node_modules/tidy/package.json", `{"name": "tidy", "version": "1.0.0", "bin": {"tidy": "cli.js"}}`)
	r.Write("node_modules/tidy/index.js", "module.exports = 'tidy';\n")
	r.Write("node_modules/tidy/cli.js", "#!/usr/bin/env node\nconsole.log('tidied');\n")
	r.Write("node_modules/.package-lock.json", strings.Replace(lock, `"": {"name": "pier", "workspaces": ["packages/*"]},`, "", 1))
	for _, dir := range []string{"node_modules/@pier", "node_modules/.bin"} {
		if err := os.MkdirAll(r.Path(dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, to := range map[string]string{"@pier/kit": "../../packages/kit", "@pier/app": "../../packages/app", ".bin/tidy": "../tidy/cli.js"} {
		if err := os.Symlink(to, r.Path("node_modules/"+name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(r.Path("node_modules/tidy/cli.js"), 0o755); err != nil {
		t.Fatal(err)
	}
	if a := r.Grayloft("adopt", "--yes"); a.Code != 0 ||
		!strings.Contains(r.Read("grayloft.toml"), "[probe.packages]\ninstalled = \"repo:node_modules/.package-lock.json\"\n") {
		t.Fatalf("exit %d, %s%s\n%s", a.Code, a.Out, a.Err, r.Read("grayloft.toml"))
	}
	r.Commit("adopted")
	if a := r.Grayloft("reproduce", "build@packages/app"); a.Code != 0 || !strings.Contains(a.Out, "equal in both runs") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("reproduce", "test@packages/kit"); a.Code != 0 {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if rep := r.Run("build", "test"); !rep.OK || r.Read("packages/app/out/x") != "tidy" {
		t.Errorf("%v", rep.Totals)
	}
	// What is installed is part of the key.
	r.Write("node_modules/tidy/package.json", `{"name": "tidy", "version": "1.0.1", "bin": {"tidy": "cli.js"}}`)
	r.Write(
		"node_modules/.package-lock.json",
		strings.ReplaceAll(r.Read("node_modules/.package-lock.json"), `"version": "1.0.0", "bin"`, `"version": "1.0.1", "bin"`),
	)
	if a := r.Grayloft("why", "build@packages/app"); !strings.Contains(a.Out, "-tidy 1.0.0\n") ||
		!strings.Contains(a.Out, "+tidy 1.0.1\n") || strings.Contains(a.Out, "@pier/kit -> ") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if rep := r.Run("build", "test"); !rep.OK || len(rep.Ran()) != 2 {
		t.Errorf("another version: %v", rep.Totals)
	}
	// What the root has counts for all, and what another package has for nobody else.
	r.Write("package.json", `{"name": "pier", "private": true, "workspaces": ["packages/*"], "devDependencies": {"gauge": "1"}}`)
	record := r.Read("node_modules/.package-lock.json")
	for _, c := range []struct {
		entry string
		ran   int
	}{
		{`"node_modules/gauge": {"version": "1.0.0"}`, 2},
		{`"node_modules/gauge": {"version": "1.0.1"}`, 2},
		{`"node_modules/gauge": {"version": "1.0.1"}, "node_modules/wick": {"version": "1.0.0"}`, 0},
	} {
		r.Write("node_modules/.package-lock.json", strings.Replace(record, `"packages": {`, `"packages": {`+c.entry+",", 1))
		if rep := r.Run("build", "test"); !rep.OK || len(rep.Ran()) != c.ran {
			t.Errorf("%s: %v", c.entry, rep.Totals)
		}
	}
	// A change of the lock file alone selects what may be installed otherwise then.
	r.Commit("another compiler")
	r.Append("package-lock.json", "\n")
	if a := r.Grayloft("tasks", "--pick", "affected", "--since", "HEAD"); !strings.Contains(a.Out, "build@packages/app") ||
		!strings.Contains(a.Out, "test@packages/kit") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if rep := r.Run("build", "test"); !rep.OK || len(rep.Ran()) != 0 {
		t.Errorf("nothing was installed: %v", rep.Totals)
	}
	if err := os.Remove(r.Path("node_modules/.package-lock.json")); err != nil {
		t.Fatal(err)
	}
	if a := r.Grayloft("run", "build", "test"); a.Code != 1 || strings.Count(a.Err, "node_modules/.package-lock.json: run npm install first") != 1 {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
}
