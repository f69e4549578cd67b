package check_test

import (
	"encoding/json"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/check"
)

// Whatever a manifest contains, a check ends, its places are in the file, and what it
// changes can be read again.
func FuzzManifests(f *testing.F) {
	add := func(name, text string) { f.Add(name, text) }
	for name, c := range conformance {
		add(name, c.files[c.manifest])
	}
	add("npm", "{\"dependencies\": {\"a\": {\"b\": 1}}}\r\n")
	add("go", "module m\nrequire (\n\ta.b/c v1.0.0\n)\n")
	add("requirements", "a>=1 # why\nb==2 \\\n  --hash=sha256:0\n-r x\nC[extra]~=1.0; python_version<'3'\n")
	add("cargo", "[dependencies.a]\nversion = \"1\"\n[target.'cfg(unix)'.dependencies]\nb.version = \"1\"\n")
	add("pins", "[go]\nz = \"1\"\na = { version = \"1\", below = \"2\", why = \"x\" }\n")
	f.Fuzz(func(t *testing.T, ecosystem, text string) {
		manifest, ok := map[string]string{
			"go": "go.mod", "npm": "package.json", "python": "pyproject.toml", "requirements": "requirements.txt", "cargo": "Cargo.toml", "pins": "pins.toml",
		}[ecosystem]
		if !ok {
			return
		}
		files := map[string]string{
			"grayloft.toml": "schema = 1\n[project]\nname = \"x\"\n", "m.go": "package m\nimport _ \"a.b/c/d\"\n", "m.test.js": "import 'a'",
			"m.py": "import a\n", "src/main.rs": "use a::b;\n", manifest: text,
		}
		found := inspect(t, files)
		for _, x := range found {
			text := files[x.File]
			if x.Line < 1 || x.Line > strings.Count(text, "\n")+1 || x.Column < 1 {
				t.Errorf("%s:%d:%d is not in the file", x.File, x.Line, x.Column)
			}
		}
		after, n, err := check.Apply(manifest, text, found)
		if err != nil || n == 0 && after != text || manifest == "package.json" && n > 0 && !json.Valid([]byte(after)) {
			t.Errorf("%s: %d applied, %v\n%s", manifest, n, err, after)
		}
	})
}
