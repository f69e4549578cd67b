package pick

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
)

// tides ← fares ← booking (service), tides ← timetable; web has no relations.
func sample(t *testing.T) *graph.Graph {
	t.Helper()
	project := func(text string) *fstest.MapFile {
		return &fstest.MapFile{Data: []byte("[project]\n" + text +
			"[task.build]\nrun = \"true\"\nwrites = []\nafter = [\"build@needs:*\"]\n[task.test]\nrun = \"true\"\nwrites = []\nafter = [\"build\"]\n")}
	}
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml": {Data: []byte("schema = 1\n[repo]\nprojects = [\"libs/*\", \"services/*\", \"apps/*\"]\n" +
			"[kind.lib]\n[pick.front]\nwhere = \"web or tag:page\"\n[pick.a]\nwhere = \"pick:b\"\n[pick.b]\nwhere = \"pick:a\"\n")},
		"libs/tides/loft.toml":       project("name = \"tides\"\nkind = \"lib\"\ntags = [\"sea\"]\nowner = \"pilots\"\n"),
		"libs/fares/loft.toml":       project("name = \"fares\"\nkind = \"lib\"\nneeds = [\"tides\"]\n"),
		"libs/timetable/loft.toml":   project("name = \"timetable\"\nneeds = [\"tides\"]\n"),
		"services/booking/loft.toml": project("needs = [\"fares\"]\n"),
		"apps/web/loft.toml":         project("name = \"web\"\ntags = [\"page\"]\n"),
	}, "test")
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func eval(g *graph.Graph, expr string, changed ...string) (string, error) {
	e, err := Parse(expr)
	if err != nil {
		return "", err
	}
	listed := func() (out []*graph.Task, err error) {
		for _, c := range changed {
			out = append(out, g.Task(c))
		}
		return out, nil
	}
	set, err := e.Eval(g, Facts{
		Changed: listed,
		Failed:  func() ([]*graph.Task, error) { return []*graph.Task{g.Task("test@web")}, nil },
		Commits: func(text string) ([]*graph.Task, int, error) {
			if text != "fog on the pier" {
				return nil, 0, nil
			}
			out, err := listed()
			return out, 2, err
		},
	})
	if err != nil {
		return "", err
	}
	var projects []string
	for _, p := range g.Projects {
		n := 0
		for _, t := range p.Tasks {
			if set[t] {
				n++
			}
		}
		switch {
		case n == len(p.Tasks):
			projects = append(projects, p.Name)
		case n > 0:
			for _, t := range p.Tasks {
				if set[t] {
					projects = append(projects, t.Addr())
				}
			}
		}
	}
	return strings.Join(projects, " "), nil
}

func TestPicks(t *testing.T) {
	g := sample(t)
	for expr, want := range map[string]string{
		"all":                          "fares services/booking tides timetable web",
		"fares":                        "fares",
		"services/*":                   "services/booking",
		"./libs":                       "fares tides timetable",
		"./libs/f*":                    "fares",
		"tag:sea":                      "tides",
		"kind:lib":                     "fares tides",
		"owner:pilots":                 "tides",
		"pick:front":                   "web",
		"needs(fares)":                 "fares tides",
		"needed_by(fares)":             "fares services/booking",
		"needed_by(tides)":             "fares services/booking tides timetable",
		"test@fares":                   "test@fares",
		"te*@{fares,tides}":            "test@fares test@tides",
		"test@*":                       "test@fares test@tides test@timetable test@web",
		"test@**":                      "test@fares test@services/booking test@tides test@timetable test@web",
		"fares or web":                 "fares web",
		"kind:lib and not tag:sea":     "fares",
		"fares or tides and tag:sea":   "fares tides",
		"(fares or tides) and tag:sea": "tides",
		"not not web":                  "web",
		"changed":                      "test@fares",
		"affected":                     "test@fares",
		"failed":                       "test@web",
		"not failed and web":           "build@web",
		`commits:"fog on the pier"`:    "test@fares",
		`"fares"`:                      "fares",
		"tag:'sea'":                    "tides",
		"needs( needed_by(fares) )":    "fares services/booking tides",
	} {
		got, err := eval(g, expr, "test@fares")
		if err != nil || got != want {
			t.Errorf("%s picks %q, %v; want %q", expr, got, err, want)
		}
	}
	got, err := eval(g, "affected", "build@fares")
	if want := "fares services/booking"; err != nil || got != want {
		t.Errorf("affected by build@fares: %q, %v; want %q", got, err, want)
	}
}

func TestErrorsShowThePosition(t *testing.T) {
	g := sample(t)
	for expr, want := range map[string]struct {
		at   int
		says string
	}{
		"":                 {0, "selects nothing"},
		"fares or":         {8, "something is missing"},
		"or fares":         {0, "something is missing before"},
		"(fares":           {0, "not closed"},
		"fares)":           {5, "not expected"},
		"fares web":        {6, "join two expressions"},
		"colour:red":       {0, "is not a field"},
		"tag:":             {4, "needs a value"},
		"needs fares":      {6, "in brackets"},
		"reach(fares)":     {0, "is not a function"},
		"'fares":           {0, "not closed"},
		"faers":            {0, `did you mean "fares"?`},
		"libs/fares":       {0, `write "./libs/fares"`},
		"test":             {0, `write "test@*"`},
		"tag:see":          {0, `did you mean "sea"?`},
		"commits:FARE-12":  {0, `no commit since the base has "FARE-12" in its message`},
		"commits:":         {8, "needs a value"},
		"pick:fronts":      {0, `did you mean "front"?`},
		"pick:a":           {0, "in a cycle"},
		"lint@fares":       {0, "no task"},
		"web and ./nope/*": {8, "no project's directory"},
	} {
		_, err := eval(g, expr)
		var pe *Error
		if !errors.As(err, &pe) || pe.At != want.at || !strings.Contains(err.Error(), want.says) {
			t.Errorf("%q: %v; want %q at %d", expr, err, want.says, want.at)
		}
	}
	_, err := eval(g, "kind:lib and tag:see")
	if want := "\n  kind:lib and tag:see\n               ^"; !strings.Contains(fmt.Sprint(err), want) {
		t.Errorf("the caret is not under the place:\n%v", err)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"all", "not (a or b) and tag:x", "needs('x y')", "t@{a,b}", "((((", "a\xffb"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		_, err := Parse(s)
		var pe *Error
		if err != nil && (!errors.As(err, &pe) || pe.At > len(s)) {
			t.Errorf("%q: %v", s, err)
		}
	})
}
