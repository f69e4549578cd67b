package change

import (
	"strings"
	"testing"
)

func TestReachGivesAShortestPath(t *testing.T) {
	g := load(t, root)
	list := Reach(g, Touched(g, nil, []string{"a/src/x"}, nil))
	paths := map[string]string{}
	for _, r := range list {
		var way []string
		for _, x := range r.Path {
			way = append(way, x.Addr())
		}
		paths[r.Task.Addr()] = r.By.By + " > " + strings.Join(way, " > ")
	}
	if len(paths) != 2 || paths["build@a"] != "a/src/x > build@a" || paths["check@b"] != "a/src/x > build@a > check@b" {
		t.Errorf("%v", paths)
	}
	if got := strings.Join(Projects(list), " "); got != "a b" {
		t.Errorf("projects %s", got)
	}
	if all := Reach(g, TouchAll(g)); len(all) != len(g.Tasks) {
		t.Errorf("everything reaches %d of %d tasks", len(all), len(g.Tasks))
	}
}

func TestWhyNothingNamesTheCause(t *testing.T) {
	g := load(t, root)
	for path, want := range map[string]string{
		"a/loft.toml":    "none of them differs from those at main",
		"a/out/x":        "an output of build@a",
		"elsewhere/x":    "is in no project",
		"b/other/x":      "belongs to project b, and none of its tasks reads it",
		"grayloft.toml":  "contains declarations",
		"b/src/skip":     "none of its tasks reads it",
		"a/src/skip":     "belongs to project a",
		"a/deep/down/it": "belongs to project a",
	} {
		if got := WhyNothing(g, path, "main"); !strings.Contains(got, want) {
			t.Errorf("%s: %s; want %q", path, got, want)
		}
	}
}

func TestBaseBeforeTheFirstDeclaration(t *testing.T) {
	b, err := LoadBase(map[string][]byte{"a/loft.toml": []byte("broken")}, "r", nil, nil)
	if err != nil || len(b.Declared) != 0 {
		t.Errorf("%d tasks, %v", len(b.Declared), err)
	}
	if _, err := LoadBase(map[string][]byte{"grayloft.toml": []byte("broken")}, "r", nil, nil); err == nil {
		t.Error("declarations that cannot be read were accepted")
	}
}
