package tree

import (
	"slices"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

var paths = []string{"a/gen/made", "a/gen/tracked", "a/in/x", "a/loft.toml", "a/out/report", "a/src/s", "b/src/t", "grayloft.toml"}

func loaded(t *testing.T, tracked ...string) (*graph.Graph, *Tree) {
	t.Helper()
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml": {Data: []byte("schema = 1\n[repo]\nname = \"t\"\nprojects = [\"a\", \"b\"]\n")},
		"a/loft.toml": {Data: []byte(`[project]
offers = ["src/**", "gen/**"]
[task.make]
run = "true"
reads = ["in/**"]
writes = ["gen/**"]
reports = ["out/report"]
[task.show]
run = "true"
reads = ["gen/**", "src/**"]
writes = ["shown"]
after = ["make"]
[task.after]
run = "true"
reads = []
writes = ["after"]
after = ["make"]
[task.apart]
run = "true"
reads = ["in/**"]
writes = ["apart"]
`)},
		"b/loft.toml": {Data: []byte(`[project]
needs = ["a"]
[task.use]
run = "true"
reads = ["src/**", "needs:*"]
writes = ["used"]
after = ["make@a"]
`)},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	return g, New(g, paths, Ignored{}, func(p string) bool { return slices.Contains(tracked, p) })
}

func (t *Tree) names(files []int) (out []string) {
	for _, i := range files {
		out = append(out, t.Path(i))
	}
	return out
}

// What matches the writes of a task is no file for anybody, unless git tracks it: then it is one for
// all who may see it but the task that writes it.
func TestTrackedOutputsCountForTheirReaders(t *testing.T) {
	g, tree := loaded(t, "a/gen/tracked", "a/out/report")
	for task, want := range map[string][]string{
		"show@a": {"a/gen/tracked"}, "after@a": {"a/gen/tracked"}, "use@b": {"a/gen/tracked"}, "make@a": nil, "apart@a": nil,
	} {
		if got := tree.names(tree.Written(g.Task(task))); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", task, got, want)
		}
	}
	if tree.Has("a/gen/made") || tree.Has("a/out/report") {
		t.Error("an output that git does not track, or a report, is a file")
	}
	for task, want := range map[string][]string{"show@a": {"a/src/s"}, "make@a": {"a/in/x"}, "use@b": {"b/src/t"}} {
		if got := tree.names(tree.Reads(g.Task(task))); !slices.Equal(got, want) {
			t.Errorf("%s reads %v, want %v", task, got, want)
		}
	}
	if got := tree.names(tree.Offers(g.Task("make@a").Project)); !slices.Equal(got, []string{"a/src/s"}) {
		t.Errorf("offered: %v", got)
	}
	if !tree.HasBelow("a/gen") || tree.HasReadBelow("a/gen") || !tree.HasReadBelow("a/src") {
		t.Error("which directories contain files that no task writes")
	}
	if _, none := loaded(t); none.Has("a/gen/tracked") {
		t.Error("an output is a file although git does not track it")
	}
}

// A link among outputs is covered if its target is read, or is in the listing of a dependency.
func TestLinksAmongOutputs(t *testing.T) {
	g, tree := loaded(t)
	ask := func(target string) Links {
		return Links{
			Target: func(p string) (string, bool) { return target, p == "a/gen/link" },
			Exists: func(p string) bool { return p != "a/missing" },
		}
	}
	isLeft := func(p string) bool { return p == "a/gen/made" }
	for target, ok := range map[string]bool{
		"made": true, "../src/s": true, "../in/x": false, "/etc/hostname": false, "../../../away": false, "../missing": true,
	} {
		err := tree.CheckLink(g.Task("show@a"), "a/gen/link", map[string]bool{"a/src/s": true}, isLeft, ask(target))
		if (err == nil) != ok {
			t.Errorf("to %s: %v", target, err)
		}
	}
}
