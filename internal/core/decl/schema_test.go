package decl

import (
	"bytes"
	"io/fs"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(JSONSchema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("decl.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("decl.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func accepts(t *testing.T, s *jsonschema.Schema, text string) bool {
	t.Helper()
	var v map[string]any
	if err := toml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err, text)
	}
	return s.Validate(map[string]any(v)) == nil
}

func TestEveryDemoFileIsValid(t *testing.T) {
	s := schema(t)
	n := 0
	err := fs.WalkDir(os.DirFS("../../../demo/skerry"), ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".toml") || p == "pins.toml" {
			return err
		}
		b, err := os.ReadFile("../../../demo/skerry/" + p)
		if err == nil && !accepts(t, s, string(b)) {
			t.Errorf("%s is refused", p)
		}
		n++
		return err
	})
	if err != nil || n < 20 {
		t.Errorf("%d files: %v", n, err)
	}
}

// full uses every key there is.
const full = `schema = 1
[repo]
name = "full"
projects = []
since = "main"
include = []
checkout_paths = "local"
[service]
url = "http://127.0.0.1:7420"
[probe.go]
run = ["go", "version"]
reads = []
per = "project"
dirs = ["/usr/lib/go", "home:go"]
[probe.packages]
installed = "repo:web/node_modules/.package-lock.json"
[adopt]
skip = ["build@web"]
[provides.python]
fogbank = ["fog"]
[setting.level]
type = "string"
values = ["low", "high"]
default = "low"
help = "words"
[setting.many]
type = "int"
default = 2
[setting.quick]
type = "bool"
default = true
[mode.release]
level = "high"
many = 3
quick = false
[kind.lib]
help = "a library"
offers = ["src/**"]
tags = ["go"]
[kind.lib.task.build]
run = "true"
[pick.every]
where = "all"
[project]
name = "full"
kind = ["lib"]
needs = []
offers = ["kind:*"]
offers_to = []
tags = []
owner = "crew"
omit = []
[task.build]
run = "echo %{setting.level}"
reads = ["**"]
writes = ["out/**"]
scratch = ["tmp/**", "home:.cache/x"]
after = []
env = ["A", "B=c"]
env_unkeyed = ["CI_JOB"]
secrets = ["TOKEN"]
opens = ["**/*_test.go", "repo:tools/*"]
probes = ["go"]
settings = ["many"]
reuse = "always"
isolation = "sealed"
network = true
timeout = "1m30s"
retries = 1
slots = 2
locks = ["port"]
portable = true
help = "words"
`

func problems(t *testing.T, text string) Problems {
	t.Helper()
	_, ps, err := Load(fstest.MapFS{"grayloft.toml": {Data: []byte(text)}}, "full")
	if err != nil {
		t.Fatal(err)
	}
	return ps
}

func TestWhatTheSchemaRefusesTheProgramRefuses(t *testing.T) {
	s := schema(t)
	if ps := problems(t, full); len(ps) > 0 || !accepts(t, s, full) {
		t.Fatalf("the sample is wrong: schema %v, %v", accepts(t, s, full), ps)
	}
	refused := 0
	for i, line := range strings.Split(full, "\n") {
		key, _, ok := strings.Cut(line, " = ")
		if !ok {
			continue
		}
		for _, val := range []string{`7`, `"x y"`, `true`, `["a"]`, `{ a = 1 }`, `-1`, `""`, `[]`, `[1]`, `1.5`, `"!x"`} {
			lines := strings.Split(full, "\n")
			lines[i] = key + " = " + val
			text := strings.Join(lines, "\n")
			bySchema, byProgram := !accepts(t, s, text), len(problems(t, text)) > 0
			if bySchema && !byProgram {
				t.Errorf("the schema refuses %q and the program does not", lines[i])
			}
			if bySchema {
				refused++
			}
		}
		if key == "fogbank" {
			continue // packages have any name
		}
		lines := strings.Split(full, "\n")
		lines[i] = strings.Replace(line, key, key+"_x", 1)
		text := strings.Join(lines, "\n")
		if accepts(t, s, text) && len(problems(t, text)) == 0 {
			t.Errorf("both take %q", lines[i])
		}
	}
	if refused < 150 {
		t.Errorf("the schema refused %d changes only", refused)
	}
}
