package check_test

import (
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/graph"
)

// Whatever a manifest contains, a check ends, its places are in the file, and what
// it changes can be read again.
func FuzzManifests(f *testing.F) {
	f.Add("{\"dependencies\": {\"a\": \"^1\", \"b\": \"2\"}, \"devDependencies\": {\"c\": \"1\"}}", "module m\n\nrequire a.b/c v1.0.0 // indirect\n")
	f.Add("{\"dependencies\": {\"a\": {\"b\": 1}}}\r\n", "module m\nrequire (\n\ta.b/c v1.0.0\n)\n")
	f.Fuzz(func(t *testing.T, pack, mod string) {
		fsys := fstest.MapFS{
			"grayloft.toml": {Data: []byte("schema = 1\n[project]\nname = \"x\"\n")}, "package.json": {Data: []byte(pack)},
			"go.mod": {Data: []byte(mod)}, "m.go": {Data: []byte("package m\nimport _ \"a.b/c/d\"\n")}, "m.test.js": {Data: []byte("import 'a'")},
		}
		g, err := graph.Load(fsys, "x")
		if err != nil {
			t.Fatal(err)
		}
		found := check.Run(&check.Repo{FS: fsys, Graph: g, Files: []string{"go.mod", "grayloft.toml", "m.go", "m.test.js", "package.json"}}, nil)
		for _, x := range found {
			text := string(fsys[x.File].Data)
			if x.Line < 1 || x.Line > strings.Count(text, "\n")+1 || x.Column < 1 {
				t.Errorf("%s:%d:%d is not in the file", x.File, x.Line, x.Column)
			}
		}
		for _, name := range []string{"package.json", "go.mod"} {
			after, n, err := check.Apply(name, string(fsys[name].Data), found)
			if err != nil || n == 0 && after != string(fsys[name].Data) || name == "package.json" && n > 0 && !json.Valid([]byte(after)) {
				t.Errorf("%s: %d applied, %v\n%s", name, n, err, after)
			}
		}
	})
}
