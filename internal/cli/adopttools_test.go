package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// A real compiler that writes only what changed since its last run, as it is adopted: each result is
// whole, whether it was made here or restored.
func TestAnIncrementalCompilerIsAdopted(t *testing.T) {
	t.Parallel()
	programs, err := filepath.Abs("../../web/node_modules/.bin") // those that build the console
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(programs, "tsc")); err != nil {
		t.Fatalf("make internal/service/console/dist/index.html installs it: %v", err)
	}
	r := trial.New(t, map[string]string{
		"package.json":            `{"name": "skerry", "private": true, "workspaces": ["libs/*"]}`,
		"tsconfig.base.json":      "{\n  // for all\n  \"compilerOptions\": {\"composite\": true, \"module\": \"nodenext\", \"target\": \"es2022\", \"strict\": true, \"skipLibCheck\": true, \"types\": []}\n}\n",
		"libs/tide/package.json":  `{"name": "@skerry/tide", "version": "1.0.0", "type": "module", "scripts": {"build": "tsc -b"}}`,
		"libs/tide/tsconfig.json": `{"extends": "../../tsconfig.base.json", "compilerOptions": {"outDir": "made", "rootDir": "src"}, "include": ["src"]}`,
		"libs/tide/src/ebb.ts":    "export const ebb: number = 1;\n", "libs/tide/src/flow.ts": "export const flow: number = 1;\n",
		".gitignore": "made\n*.tsbuildinfo\n",
	})
	r.Env = append(r.Env, "PATH="+programs+":"+os.Getenv("PATH"))
	if a := r.Grayloft("adopt", "--yes"); a.Code != 0 {
		t.Fatalf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	whole := func(what, ebb, flow string) {
		t.Helper()
		if got := r.Read("libs/tide/made/ebb.js"); got != "export const ebb = "+ebb+";\n" {
			t.Errorf("%s: %q", what, got)
		}
		if got := r.Read("libs/tide/made/flow.js"); got != "export const flow = "+flow+";\n" {
			t.Errorf("%s: %q", what, got)
		}
	}
	r.Run("build")
	whole("at first", "1", "1")
	r.Write("libs/tide/src/ebb.ts", "export const ebb: number = 2;\n")
	if rep := r.Run("build"); len(rep.Ran()) != 1 {
		t.Errorf("%v", rep.Totals)
	}
	whole("one file changed", "2", "1")
	if err := os.RemoveAll(r.Path("libs/tide/made")); err != nil {
		t.Fatal(err)
	}
	r.Write("libs/tide/src/ebb.ts", "export const ebb: number = 1;\n")
	if rep := r.Run("build"); len(rep.Ran()) != 0 {
		t.Errorf("it was made before: %v", rep.Totals)
	}
	whole("restored", "1", "1")
	r.Write("libs/tide/src/flow.ts", "export const flow: number = 3;\n")
	r.Run("build")
	whole("after it was restored", "1", "3")
	if a := r.Grayloft("check"); a.Code != 0 {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
}
