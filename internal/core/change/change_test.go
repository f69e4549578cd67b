package change

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

const root = `schema = 1
[repo]
projects = ["a", "b"]
[probe.lock]
run = "cat lock"
reads = ["lock"]
[kind.k]
[kind.k.task.build]
run = "true"
reads = ["src/**", "!src/skip"]
writes = ["out/**"]
help = "HELP"
slots = 1
[kind.k.task.check]
run = "CHECK"
reads = ["needs:*"]
writes = []
after = ["build@needs:*"]
probes = ["lock"]
`

func load(t *testing.T, text string) *graph.Graph {
	t.Helper()
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml": {Data: []byte(text)},
		"a/loft.toml":   {Data: []byte("[project]\nkind = \"k\"\noffers = [\"api/**\"]\n")},
		"b/loft.toml":   {Data: []byte("[project]\nkind = \"k\"\nneeds = [\"a\"]\n[task.own]\nrun = \"true\"\nwrites = []\n")},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func touched(g, base *graph.Graph, paths ...string) []string {
	out := []string{}
	var b *Base
	if base != nil {
		b = BaseOf(base)
	}
	for _, x := range Touched(g, b, paths, nil) {
		out = append(out, x.Task.Addr())
	}
	slices.Sort(out)
	return out
}

func TestFilesTouchExactlyTheirReaders(t *testing.T) {
	g := load(t, root)
	for path, want := range map[string][]string{
		"a/src/x":    {"build@a"},
		"a/src/skip": {},
		"a/api/x":    {"check@b"},            // offered to b
		"b/api/x":    {"own@b"},              // read by default
		"a/out/x":    {},                     // an output of a task: never read as a file
		"b/gone":     {"own@b"},              // whether it exists or not
		"lock":       {"check@a", "check@b"}, // read by a probe
		"elsewhere":  {},
	} {
		if got := touched(g, nil, path); !slices.Equal(got, want) {
			t.Errorf("%s touches %v, want %v", path, got, want)
		}
	}
}

func TestOnlyChangedDeclarationsCount(t *testing.T) {
	g := load(t, root)
	for name, c := range map[string]struct {
		from, to string
		want     []string
	}{
		"help":   {"HELP", "other words", []string{}},
		"slots":  {"slots = 1", "slots = 2\ntimeout = \"5m\"", []string{}},
		"run":    {"CHECK", "check -v", []string{"check@a", "check@b"}},
		"reads":  {"!src/skip", "!src/other", []string{"build@a", "build@b"}},
		"probe":  {"cat lock", "cat ./lock", []string{"check@a", "check@b"}},
		"writes": {"out/**", "dist/**", []string{"build@a", "build@b"}},
	} {
		base := load(t, strings.Replace(root, c.from, c.to, 1))
		if got := touched(g, base, "grayloft.toml"); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
}
