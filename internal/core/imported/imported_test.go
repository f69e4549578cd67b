package imported

import (
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

func house(rev string) *decl.Import {
	i := &decl.Import{Name: "house"}
	i.URL.Text, i.Rev.Text, i.Commit.Text, i.Digest.Text = `https://pier.example/"build"`, rev, "c0ffee", "d1"
	i.Files.Items = []decl.Item{{Text: "kinds/*.toml"}, {Text: "more/a.toml"}}
	return i
}

func TestADeclarationOfAnImportComesAndGoes(t *testing.T) {
	for _, text := range []string{
		"schema = 1\n", "schema = 1", "schema = 1\r\n\r\n[repo]\r\nname = \"x\"\r\n", "schema = 1\n[kind.a]\n# the end\n",
	} {
		with := Add(text, house("v1"))
		list := decl.ReadImports([]byte(with))
		if len(list) != 1 || list[0].URL.Text != house("").URL.Text || list[0].Rev.Text != "v1" ||
			strings.Join(list[0].Files.Texts(), " ") != "kinds/*.toml more/a.toml" {
			t.Errorf("%q declares %+v", with, list)
		}
		if strings.Contains(text, "\r\n") && strings.Contains(strings.ReplaceAll(with, "\r\n", ""), "\n") {
			t.Errorf("%q has other ends of lines than before", with)
		}
		more := with + "\n[check.unused]\nlevel = \"off\"\n"
		if got, want := Add(more, house("v2")), strings.Replace(more, `rev    = "v1"`, `rev    = "v2"`, 1); got != want {
			t.Errorf("an update of %q makes %q", more, got)
		}
		if got := strings.TrimRight(Remove(with, "house"), "\r\n"); got != strings.TrimRight(text, "\r\n") {
			t.Errorf("%q without it is %q", with, got)
		}
		if got := Remove(more, "house"); len(decl.ReadImports([]byte(got))) != 0 || !strings.Contains(got, "[check.unused]") {
			t.Errorf("%q without it is %q", more, got)
		}
	}
	if got := Remove("schema = 1\n", "house"); got != "schema = 1\n" {
		t.Errorf("%q", got)
	}
}

func TestTheDigestIsOfPathsAndTexts(t *testing.T) {
	sums := map[string]Files{}
	for _, f := range []Files{{"a": []byte("1"), "b": []byte("2")}, {"a": []byte("12")}, {"b": []byte("1"), "a": []byte("2")}, {"c/a": []byte("1")}, {}} {
		sum, err := f.Digest()
		if len(f) == 0 {
			continue // there is no directory
		}
		if err != nil || sums[sum.String()] != nil {
			t.Errorf("%v has the digest of %v, %v", f, sums[sum.String()], err)
		}
		sums[sum.String()] = f
	}
}

func TestChangesOfTasksAreShownTogether(t *testing.T) {
	load := func(run, more string) *graph.Graph {
		t.Helper()
		g, err := graph.Load(fstest.MapFS{
			"grayloft.toml": {
				Data: []byte(
					"schema = 1\n[repo]\nprojects = [\"*\"]\n[kind.k.task.build]\nrun = \"" + run + "\"\nreads = [\"*\"]\n" + more,
				),
			},
			"a/loft.toml": {
				Data: []byte("[project]\nkind = \"k\"\n"),
			}, "b/loft.toml": {Data: []byte("[project]\nkind = \"k\"\n")},
		}, "x")
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	got := Changes(load("one", ""), load("two", "writes = []\n[kind.k.task.new]\nrun = \"new\"\n"))
	want := []Change{
		{[]string{"build@a", "build@b"}, "run", "one", "two"}, {[]string{"build@a", "build@b"}, "writes", "", "[]"},
		{[]string{"new@a", "new@b"}, "task", "", "declared"},
	}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if got[i].Key != want[i].Key || got[i].Before != want[i].Before || got[i].After != want[i].After ||
			strings.Join(got[i].Tasks, " ") != strings.Join(want[i].Tasks, " ") {
			t.Errorf("%+v, want %+v", got[i], want[i])
		}
	}
	if same := Changes(load("one", ""), load("one", "")); len(same) != 0 {
		t.Errorf("%+v", same)
	}
}

func TestWhatIsWanted(t *testing.T) {
	for patterns, says := range map[string]string{"../x": "not a pattern", "/etc/*": "not a pattern", "[": "not a pattern", "": "name them with --files"} {
		if _, err := Wanted(strings.Fields(patterns), []byte("schema = 1\n")); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", patterns, err)
		}
	}
	got, err := Wanted(nil, []byte("[repo]\ninclude = [\"kinds/*.toml\"]\n"))
	if err != nil || !Matches(got, "kinds/a.toml") || Matches(got, "kinds/deep/a.toml") || Matches(got, "a.toml") {
		t.Errorf("%q, %v", got, err)
	}
	texts := map[string][]byte{"a.toml": []byte("[kind.lib]\ntemplate = \"templates/lib\"\n")}
	if !InTemplates(texts, "templates/lib/x") || InTemplates(texts, "templates/other") ||
		InTemplates(map[string][]byte{"a": []byte("[kind.x]\ntemplate = \".\"\n")}, "x") {
		t.Error("templates")
	}
}
