// Package demo tests that Skerry Lines shows what it is meant to show.
package demo

import (
	"io/fs"
	"maps"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/registry/standin"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

func skerry(t *testing.T) *trial.Repo {
	t.Helper()
	files := map[string]string{}
	err := filepath.WalkDir("skerry", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(p)
		rel, _ := filepath.Rel("skerry", p)
		files[filepath.ToSlash(rel)] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	files["data/chart-tiles/chart.bin"] = strings.Repeat("soundings ", 20000)
	return trial.New(t, files)
}

func ran(rep trial.Report) []string { return slices.Sorted(maps.Keys(rep.Ran())) }

func TestSkerryLines(t *testing.T) {
	s := trial.Serve(t)
	r := skerry(t).Login(s.URL, s.TokenFor(t, "skerry", "ci", "trusted", "trusted"), "harbour-ci")
	rep := r.Run("--pick", "all")
	if !rep.OK {
		for _, x := range rep.Tasks {
			if x.Outcome == "failed" {
				t.Errorf("%s: %s\n%s", x.Task, x.Message, r.Grayloft("log", x.Task).Out)
			}
		}
		t.Fatal(rep.Totals)
	}
	n := len(rep.Tasks)
	if again := r.Run("--pick", "all"); again.Totals["current"] != n {
		t.Errorf("the second run: %v", again.Totals)
	}

	// A mode rebuilds only the services, and without it their earlier results
	// return.
	if got := ran(r.Run("build", "--mode", "debug")); !slices.Equal(
		got,
		[]string{"build@boarding-gate", "build@booking", "build@notices", "build@sailings"},
	) {
		t.Errorf("another mode built %v", got)
	}
	if got := ran(r.Run("--pick", "all")); len(got) > 0 {
		t.Errorf("the mode was left out again, and these ran: %v", got)
	}

	// A new library passes at once.
	if a := r.Grayloft("new", "go-library", "libs/fog-horn"); a.Code != 0 {
		t.Fatalf("new: %s%s", a.Out, a.Err)
	}
	if rep := r.Run("build@libs/fog-horn", "test@libs/fog-horn"); !rep.OK {
		t.Errorf("the new library: %s", r.Grayloft("log", "test@libs/fog-horn").Out)
	}
	r.Remove("libs/fog-horn")

	// Deleted outputs are restored; tasks without outputs are current.
	r.Git("clean", "-xfdq", "-e", ".grayloft")
	for _, x := range r.Run("--pick", "all").Tasks {
		name, project, _ := strings.Cut(x.Task, "@")
		has := !slices.Contains([]string{"test"}, name) &&
			(name != "build" || !slices.Contains([]string{"tides", "money", "timetable", "fares", "wire-schema"}, project))
		if want := map[bool]string{true: "restored", false: "current"}[has]; x.Outcome != want {
			t.Errorf("after deleting outputs, %s is %s, want %s", x.Task, x.Outcome, want)
		}
	}

	// Another machine with an empty cache runs nothing.
	c := r.Clone().Login(s.URL, s.TokenFor(t, "skerry", "brenna", "person/brenna", "person/brenna", "trusted"), "home")
	other := c.Run("--pick", "all")
	if other.Totals["fetched"]+other.Totals["cached"] != n || other.Totals["fetched"] == 0 {
		t.Errorf("a second clone: %v\n%s", other.Totals, other.Answer.Err)
	}

	// A comment in a test file runs that library's test and nothing else.
	r.Append("libs/fares/fares_test.go", "\n// A comment.\n")
	if got := ran(r.Run("--pick", "all")); !slices.Equal(got, []string{"test@fares"}) {
		t.Errorf("a comment in a test file ran %v", got)
	}
	// A comment in a generator's input runs only the generator.
	r.Append("libs/wire-schema/schema/booking.wire", "# A comment.\n")
	if got := ran(r.Run("--pick", "all")); !slices.Equal(got, []string{"generate@wire-schema"}) {
		t.Errorf("a comment in a schema ran %v", got)
	}
	// A real change there affects the services and the apps.
	r.Append("libs/wire-schema/schema/sailing.wire", "\nmessage Fog\n  port text\n")
	got := ran(r.Run("--pick", "all"))
	for _, want := range []string{"generate@wire-schema", "build@booking", "bundle@crew-tablet", "gather@release"} {
		if !slices.Contains(got, want) {
			t.Errorf("a new message did not run %s: %v", want, got)
		}
	}
	// A failing test fails the run.
	r.Append("libs/money/money_test.go", "\nfunc TestFails(t *testing.T) { t.Error(\"on purpose\") }\n")
	if rep := r.Run("test@money"); rep.OK || rep.Answer.Code != 1 {
		t.Error("a failing test went through")
	}
}

func TestGoFilesOfTheDemoAreFormatted(t *testing.T) {
	out, err := exec.Command("gofmt", "-l", "skerry").CombinedOutput()
	if err != nil || len(out) > 0 {
		t.Errorf("%s%v", out, err)
	}
}

// The example is clean by its own rules.
// Skerry Lines is clean but for the finding in its baseline: a service that waits for a
// newer package.
func TestSkerryLinesIsClean(t *testing.T) {
	r := skerry(t)
	if a := r.Grayloft("check", "--baseline", "build/known-findings.json"); a.Code != 0 ||
		a.Out != "Nothing to change. 1 more is in the baseline.\n" {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	a := r.Grayloft("check")
	if a.Code != 1 || !strings.Contains(a.Out, `services/boarding-gate/go.mod:6:2  error  "quay.example/logline" is v1.2.0 here`) ||
		!strings.Contains(a.Out, "1 error, 0 warnings") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
}

// adopt proposes what Skerry Lines could declare beside what it does, and the two fit.
func TestSkerryLinesCanDeclareMore(t *testing.T) {
	r := skerry(t)
	a := r.Grayloft("adopt", "--yes", "--verbose")
	if a.Code != 0 || !strings.Contains(a.Out, "[task.vet]") {
		t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	if rep := r.Run("vet"); !rep.OK || rep.Totals["ran"] == 0 {
		t.Errorf("%v", rep.Totals)
	}
}

// The pin says what is newer, and what is held back and why; after the edit, the
// manifests follow.
func TestSkerryLinesHoldsAPackageBack(t *testing.T) {
	r := skerry(t)
	s := httptest.NewServer(standin.Handler{"go": {"quay.example/logline": {"v1.4.0", "v1.5.1", "v1.6.0"}}})
	defer s.Close()
	r.Env = append(r.Env, "GOPROXY="+s.URL+"/go")
	a := r.Grayloft("check", "--updates", "update-available")
	want := `pins.toml:4:1  warning  "quay.example/logline" is pinned at 1.4.0, 1.5.1 is available; 1.6.0 is held back: version 1.6 writes times without seconds`
	if a.Code != 0 || !strings.Contains(a.Out, want) {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	r.Grayloft("check", "--updates", "--fix", "update-available", "version-in-manifest")
	for _, service := range []string{"booking", "sailings", "boarding-gate"} {
		if mod := r.Read("services/" + service + "/go.mod"); !strings.Contains(mod, "require (\n\tquay.example/logline v1.5.1\n") {
			t.Errorf("%s: %s", service, mod)
		}
	}
}
