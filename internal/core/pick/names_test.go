package pick

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

func TestByName(t *testing.T) {
	const task = "[task.build]\nrun = \"true\"\nwrites = []\n"
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml":   {Data: []byte("schema = 1\n[repo]\nprojects = [\"*\"]\n")},
		"fares/loft.toml": {Data: []byte(task + "[task.test]\nrun = \"true\"\nwrites = []\n")},
		"money/loft.toml": {Data: []byte(task)},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		here, names, want string
		among             Set
	}{
		{"", "build", "build@fares build@money", nil},
		{"fares/src", "build", "build@fares", nil},
		{"fares", "build@money test", "build@money test@fares", nil},
		{"", "b*", "build@fares build@money", nil},
		{"", "*@money", "build@money", nil},
		{"fares", "build", "build@money", Set{g.Task("build@money"): true}}, // a pick decides, not the directory
		{"", "test@fares", "", Set{g.Task("build@money"): true}},
	} {
		set, err := ByName(g, c.among, c.here, strings.Fields(c.names))
		var got []string
		for _, x := range set.Sorted(g) {
			got = append(got, x.Addr())
		}
		slices.Sort(got)
		if err != nil || strings.Join(got, " ") != c.want {
			t.Errorf("%q in %q: %v, %v; want %s", c.names, c.here, got, err, c.want)
		}
	}
	for name, want := range map[string]struct {
		message string
		unknown bool
	}{
		"biuld":        {`did you mean "build"?`, true},
		"fares:build":  {`did you mean "build@fares"?`, true},
		"//fares:test": {`did you mean "test@fares"?`, true},
		"build:money":  {`did you mean "build@money"?`, true},
		"money":        {"is a project, not a task: write --pick money", false},
		"zzz":          {"the names are build, test", true},
	} {
		_, err := ByName(g, nil, "", []string{name})
		var ne *NameError
		if !errors.As(err, &ne) || ne.Unknown != want.unknown || !strings.Contains(err.Error(), want.message) {
			t.Errorf("%s: %v", name, err)
		}
	}
	empty, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte("schema = 1\n")}}, "empty")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ByName(empty, nil, "", []string{"build"}); err == nil || !strings.Contains(err.Error(), "declares no tasks; add a loft.toml") {
		t.Errorf("without any task: %v", err)
	}
	if _, err := ByName(g, nil, "money", []string{"test"}); err == nil || !strings.Contains(err.Error(), `write "test@*"`) {
		t.Errorf("a task of another project: %v", err)
	}
}
