package translate_test

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/translate"
)

var quay = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
projects = ["libs/*", "web/*", "tools"]
[setting.lto]
values = ["none", "thin"]
default = "none"
[setting.speed]
type = "int"
default = 1
`,
	"libs/x/loft.toml": `[project]
name = "x"
[task.build]
run = "LTO=%{setting.lto} make --silent build"
[task.lint]
run = "./tools/lint.sh -n %{setting.speed}"
[task.test]
run = "go test -count=1 ./..."
env = ["CI_JOB", "REGION=north"]
[task.pack]
run = "tar cf out.tar . | gzip"
`,
	"libs/x/Makefile":      ".PHONY: build check all\nall: build\nbuild:\n\t@./compile.sh \"$$LTO\"\ncheck:\n\tgo test -count=1 ./...\n",
	"libs/x/compile.sh":    "",
	"libs/x/tools/lint.sh": "",
	"libs/y/loft.toml":     "[project]\nname = \"y\"\n[task.build]\nrun = [\"cargo\", \"build\", \"--release\"]\n[task.make]\nrun = \"make\"\n",
	"libs/y/Cargo.toml":    "[package]\nname = \"yard\"\n",
	"libs/y/Makefile":      "first:\n\ttrue\n",
	"web/page/loft.toml":   "[project]\nname = \"page\"\n[task.build]\nrun = \"npm run --silent build\"\n[task.test]\nrun = \"node --test\"\n[task.serve]\nrun = \"npm start\"\n[task.pack]\nrun = \"node pack.mjs\"\n",
	"web/page/package.json": `{"name": "@quay/page", "scripts": {"build": "node pack.mjs", "pretest": "echo first", "test": "node --test", "start": "node serve.mjs",
		"all": "npm run build && npm test", "piped": "node a.mjs | tee log"}}`,
	"web/page/pack.mjs":    "",
	"web/map/loft.toml":    "[project]\nname = \"map\"\n[task.build]\nrun = \"npm run --silent build\"\n",
	"web/map/package.json": `{"name": "map", "scripts": {"build": "node pack.mjs"}}`,
	"package.json":         `{"private": true, "workspaces": ["web/*"]}`,
	"tools/loft.toml":      "[task.gen]\nrun = \"sh gen.sh\"\nsettings = [\"lto\"]\n[task.again]\nrun = \"./gen.sh\"\n",
	"tools/gen.sh":         "",
}

func repo(t *testing.T, dir string) *translate.Repo {
	t.Helper()
	fsys := fstest.MapFS{}
	for name, text := range quay {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	g, err := graph.Load(fsys, "quay")
	if err != nil {
		t.Fatal(err)
	}
	return &translate.Repo{
		Graph: g,
		Files: slices.Sorted(maps.Keys(quay)),
		Dir:   dir,
		Read:  func(name string) string { return quay[name] },
	}
}

// answer is the new command, several in braces, or "none: " with what is alike.
func answer(t *testing.T, dir, old string) string {
	t.Helper()
	parts, err := translate.Translate(repo(t, dir), old)
	if err != nil {
		return "error: " + err.Error()
	}
	var all []translate.Candidate
	for _, p := range parts {
		switch len(p.Candidates) {
		case 1:
			all = append(all, p.Candidates[0])
		case 0:
			var near []string
			for _, n := range p.Near {
				near = append(near, n.Task+" "+n.Why)
			}
			return "none: " + strings.Join(near, "; ")
		default:
			var list []string
			for _, c := range p.Candidates {
				list = append(list, translate.Commands([]translate.Candidate{c})...)
			}
			return "{" + strings.Join(list, ", ") + "}"
		}
	}
	return strings.ReplaceAll(strings.Join(translate.Commands(all), " && "), "grayloft run ", "")
}

func TestOldCommandsAreTranslated(t *testing.T) {
	for _, c := range []struct{ dir, old, want string }{
		{"", "LTO=thin make -C libs/x build", "build@x --set lto=thin"},
		{"", "make -C libs/x LTO=thin build", "build@x --set lto=thin"},
		{"", "cd libs/x && make -s -j4 build", "build@x"},
		{"", "LTO=none make -C libs/x build", "build@x"},
		{"libs/x", "env LTO=thin make build", "build@x --set lto=thin"},
		{"libs/x", "export LTO=thin; make build", "build@x --set lto=thin"},
		{"libs/x", "make check", "test@x"},
		{"", "make -C libs/y", "make@y"},
		{"", "go test -count=1 ./libs/x/...", "test@x"},
		{"", "CI_JOB=7 go test -C libs/x -count=1 ./...", "CI_JOB=7 test@x"},
		{"libs/x", "CI_JOB=7 REGION=north go test ./... -count=1", "CI_JOB=7 test@x"},
		{"libs/x", "./tools/lint.sh -n 3", "lint@x --set speed=3"},
		{"libs/x", "bash tools/lint.sh -n 1", "lint@x"},
		{"libs/x", "tar cf out.tar . | gzip", "error: "},
		{"", "cargo build -p yard --release", "build@y"},
		{"", "cargo build --release --manifest-path libs/y/Cargo.toml", "build@y"},

		{"web/page", "npm run build", "build@page"},
		{"", "npm run build -w @quay/page", "build@page"},
		{"", "npm --prefix web/page run build", "build@page"},
		{"", "yarn workspace @quay/page build", "build@page"},
		{"", "yarn workspaces foreach -A -p run build", "build@map build@page"},
		{"web/page", "yarn run --silent build", "build@page"},
		{"", "pnpm --filter map run build", "build@map"},
		{"", "pnpm --filter './web/*' build", "build@map build@page"},
		{"", "pnpm run --silent --filter '@quay/*' build", "build@page"},
		{"", "pnpm -r run build", "build@map build@page"},
		{"", "pnpm run -r --parallel build", "build@map build@page"},
		{"web/page", "pnpm run --silent build", "build@page"},
		{"", "pnpm --dir web/page build", "build@page"},
		{"", "npm run build --workspaces", "build@map build@page"},
		{"web/page", "npm test", "test@page"},
		{"web/page", "npm start", "serve@page"},
		{"web/page", "node --run start", "serve@page"},
		{"web/page", "npm run all", "build@page test@page"},
		{"web/page", "node pack.mjs", "pack@page"},
		{"web/page", "npm run build -- --watch now", "build@page -- -- --watch now"},
		{"tools", "./gen.sh", "{again@tools, gen@tools}"},
		{"tools", "LTO=thin ./gen.sh", "gen@tools --set lto=thin"},
		{"", "cd web/page && npm run build && npm test", "build@page test@page"},
	} {
		got := answer(t, c.dir, c.old)
		got = strings.ReplaceAll(got, "grayloft run ", "")
		want := strings.ReplaceAll(c.want, "grayloft run ", "")
		if got != want && !(c.want == "error: " && strings.HasPrefix(got, c.want)) {
			t.Errorf("%s$ %s\nbecomes %s\nwant    %s", c.dir, c.old, got, want)
		}
	}
}

// A wrong answer is worse than none: what differs is said.
func TestWhatDiffersIsNoAnswer(t *testing.T) {
	for _, c := range []struct{ dir, old, says string }{
		{"", "DEBUG=1 make -C libs/x build", "build@x it runs the same, but nothing passes DEBUG on to it"},
		{"", "LTO=fat make -C libs/x build", `build@x setting "lto" cannot be "fat": it takes none, thin`},
		{"", "make build", "none: "},
		{"libs/x", "REGION=south go test -count=1 ./...", "nothing passes REGION on to it"},
		{"libs/x", "go test -race ./...", "test@x it runs go test -count=1 ./..."},
		{"libs/x", "make clean", "build@x it runs"},
		{"", "go test -count=1 ./...", "none: test@x it runs the same in libs/x, and the old command in ."},
		{"web/page", "npm install", "none: "},
		{"web/page", "npm run missing", "none: "},
		{"web/page", "npm run piped", "none: "},
		{"web/page", "npm ci && npm run build", "none: "},
		{"libs/x", "./tools/lint.sh -n soon", `setting "speed" cannot be "soon"`},
		{"", "cd ../elsewhere && make", "error: it runs outside"},
		{"libs/x", "tools/lint.sh --all", "lint@x it runs ./tools/lint.sh"},
		{"", "make | tee log", "error: "},
		{"", "make build > log", "error: "},
		{"", "make build || true", "error: "},
		{"", "make $(cat targets)", "error: "},
		{"", "if true; then make; fi", "error: "},
		{"", "", "error: it runs nothing"},
		{"", "'", "error: it is not a command of a shell"},
		{"", "grayloft run build", "none: "},
	} {
		if got := answer(t, c.dir, c.old); !strings.Contains(got, c.says) ||
			!strings.HasPrefix(got, "none: ") && !strings.HasPrefix(got, "error: ") {
			t.Errorf("%s$ %s\nbecomes %s\nwant    %s", c.dir, c.old, got, c.says)
		}
	}
}

func FuzzTranslate(f *testing.F) {
	for _, text := range []string{"make -C libs/x LTO=thin", "npm run build -- x", "cd a && yarn workspaces run b", "A=b env C=d sh -ec 'go test ./...'", "cargo -p", "make -f"} {
		f.Add(text)
	}
	r := (*translate.Repo)(nil)
	f.Fuzz(func(t *testing.T, old string) {
		if r == nil {
			r = repo(t, "libs/x")
		}
		parts, err := translate.Translate(r, old)
		if err == nil && len(parts) == 0 {
			t.Errorf("%q has neither parts nor an error", old)
		}
	})
}
