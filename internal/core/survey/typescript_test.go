package survey_test

import (
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// With the file in which the compiler says what it has compiled, and without its results, it would
// make only those of what changed since: both are outputs of the task.
func TestWhatTheCompilerKeepsBelongsToItsOutputs(t *testing.T) {
	const base = `{"compilerOptions": {"composite": true, "strict": true}}`
	for _, c := range []struct {
		what, script string
		files        map[string]string // of the package, or from the root after a /
		want         string
	}{
		{"built", "tsc -b", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made", "rootDir": "src"}}`}, "made/** tsconfig.tsbuildinfo"},
		{"without the directory of the sources", "tsc --build", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made"}}`}, "made/**"},
		{"deeper sources", "tsc -b", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made", "rootDir": "./src/web/"}}`}, "never: packages/tsconfig.tsbuildinfo"},
		{"sources around", "tsc -b", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made", "rootDir": "../.."}}`}, "made/**"},
		{"compiled at once", "tsc", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made", "rootDir": "src"}}`}, "made/**"},
		{"as its base says", "tsc -p tsconfig.build.json", map[string]string{
			"tsconfig.build.json": `{"extends": "../../base", "compilerOptions": {"outDir": "dist", "rootDir": "src"}}`, "/base.json": base,
		}, "dist/** tsconfig.build.tsbuildinfo"},
		{"against its base", "tsc", map[string]string{
			"tsconfig.json": `{"extends": ["../../base.json"], "compilerOptions": {"outDir": "dist", "rootDir": "src", "composite": false}}`, "/base.json": base,
		}, "dist/**"},
		{"a base of the workspace", "npx tsc", map[string]string{
			"tsconfig.json": `{"extends": "@skerry/rules/base.json", "compilerOptions": {"rootDir": "src"}}`, "/tools/rules/package.json": `{"name": "@skerry/rules"}`,
			"/tools/rules/base.json": `{"compilerOptions": {"incremental": true, "composite": false, "outDir": "${configDir}/made"}}`,
		}, "made/** tsconfig.tsbuildinfo"},
		{"at a place of its own", "tsc", map[string]string{
			"tsconfig.json": `{"compilerOptions": {"outDir": "made", "incremental": true, "tsBuildInfoFile": "./state/x.tsbuildinfo"}}`,
		}, "made/** state/x.tsbuildinfo"},
		{"parts of a package", "vue-tsc -b && pack", map[string]string{
			"tsconfig.json":      `{"files": [], "references": [{"path": "./tsconfig.app.json"}, {"path": "./tsconfig.test.json"}, {"path": "../b"}]}`,
			"tsconfig.app.json":  `{"compilerOptions": {"outDir": "made/app", "rootDir": "src"}}`,
			"tsconfig.test.json": `{"compilerOptions": {"noEmit": true}}`, "/packages/b/tsconfig.json": `{"compilerOptions": {"outDir": "made"}}`,
			"/packages/b/package.json": `{"name": "b"}`,
		}, "made/app/** made/tsconfig.app.tsbuildinfo"},
		{"comments and patterns", "tsc -b", map[string]string{
			"tsconfig.json": "{\n\"compilerOptions\": {\"paths\": {\"@/*\": [\"./src/*\"]}, // ours\n\"outDir\": \"made\", /* all */ \"rootDir\": \"src\",},\n\"include\": [\"src/**/*.ts\"],\n}\n",
		}, "made/** tsconfig.tsbuildinfo"},
		{"with other outputs", "tsc -b && mkdir -p made/pages && cp a.txt log.txt && sort a.txt > log.txt", map[string]string{
			"tsconfig.json": `{"compilerOptions": {"outDir": "made", "rootDir": "src"}}`,
		}, "log.txt made/** tsconfig.tsbuildinfo"},
		{"into another directory", "tsc --outDir lib", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made"}}`}, "lib/**"},
		{"twice", "tsc && tsc --outDir lib", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made"}}`}, "lib/** made/**"},
		{"a check", "tsc -b --noEmit", map[string]string{"tsconfig.json": `{"compilerOptions": {"outDir": "made", "rootDir": "src"}}`}, ""},
		{"a circle", "tsc", map[string]string{"tsconfig.json": `{"extends": "./tsconfig.json", "compilerOptions": {"outDir": "made"}}`}, "made/**"},
		{"a reference to itself", "tsc -b", map[string]string{"tsconfig.json": `{"references": [{"path": "."}], "compilerOptions": {"outDir": "made"}}`}, "made/**"},
		{"none", "tsc -b", map[string]string{"tsconfig.json": `[`}, ""},
	} {
		files := map[string]string{
			"package.json":            `{"name": "skerry", "workspaces": ["packages/*", "tools/*"]}`,
			"packages/a/package.json": `{"name": "a", "scripts": {"build": "` + c.script + `"}}`, "packages/a/src/a.ts": "export {}\n",
		}
		for name, text := range c.files {
			at, fromRoot := strings.CutPrefix(name, "/")
			if !fromRoot {
				at = "packages/a/" + name
			}
			files[at] = text
		}
		s, _ := propose(t, repo(files), Choices{})
		build := of(s, "packages/a").Task("build")
		got := strings.Join(slices.Sorted(slices.Values(build.Writes)), " ")
		if _, lost, ok := strings.Cut(build.Why, "outside the project, in "); ok && build.Sort == NeverReusable {
			got = "never: " + strings.TrimSuffix(lost, ": set tsBuildInfoFile")
		}
		if got != c.want {
			t.Errorf("%s: it writes %q, want %q", c.what, got, c.want)
		}
	}
}
