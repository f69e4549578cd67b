package graph

import (
	"os"
	"strings"
	"testing"
	"testing/fstest"
)

// Loading any declarations ends, and every problem has a position in one of the
// files.
func FuzzDeclarations(f *testing.F) {
	for _, root := range []string{"../../../demo/skerry/grayloft.toml"} {
		text, err := os.ReadFile(root)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text), "[project]\nname = \"fares\"\nneeds = [\"tides\"]\n[task.x]\nrun = \"true\"\nreads = [\"kind:*\"]\n")
	}
	f.Add("schema = 1\n[repo]\nprojects = [\"p\"]\n[kind.k.task.t]\nrun = \"a %{setting.s}\"\nafter = [\"t@needs:*\"]\n[setting.s]\ntype = \"int\"\n",
		"[project]\nkind = [\"k\"]\n[task.t]\nreads = [\"!x\", \"repo:../y\"]\nwrites = [\"**\"]\nscratch = [\"home:z\"]\nlocks = [\"a\"]\n")
	f.Fuzz(func(t *testing.T, root, project string) {
		_, err := Load(fstest.MapFS{"grayloft.toml": {Data: []byte(root)}, "p/loft.toml": {Data: []byte(project)}, "libs/a/loft.toml": {Data: []byte(project)}}, "fuzz")
		if err == nil {
			return
		}
		problems, ok := AsProblems(err)
		if !ok {
			t.Fatalf("an error that is no list of problems: %v", err)
		}
		for _, p := range problems {
			if !strings.HasSuffix(p.Pos.File, ".toml") || p.Message == "" {
				t.Errorf("a problem without a place or a message: %+v", p)
			}
		}
	})
}
