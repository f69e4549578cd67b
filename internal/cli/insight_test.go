package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/trial"
)

var quay = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.charts]
run = "mkdir -p out/deep; cp in out/deep/chart; chmod +x out/deep/chart; ln -s deep/chart out/link"
reads = ["in"]
writes = ["out/**"]
probes = []
[task.fog]
run = "printf '<testsuite><testcase name=\"Fog\">%s</testcase></testsuite>' \"$(test -e clear || echo '<failure>thick s3cret</failure>')\" > tests.xml; test -e clear"
reads = ["*.txt"]
writes = []
reports = ["*.xml"]
probes = []
secrets = ["WORD"]
`,
	"in": "deep\n", "a.txt": "a", ".gitignore": "out\nclear\n",
}

func adviceOf(t *testing.T, r *trial.Repo, args ...string) protocol.AdvicePage {
	t.Helper()
	var page protocol.AdvicePage
	a := r.Grayloft(append([]string{"advise", "--format", "json"}, args...)...)
	if err := json.Unmarshal([]byte(a.Out), &page); err != nil {
		t.Fatalf("%v: %s %s", err, a.Out, a.Err)
	}
	return page
}

// One key that failed and passed is found from this checkout's history, and from
// the service's records with the test that did; the report itself is no input.
func TestAFlakyTaskIsAdvisedAbout(t *testing.T) {
	t.Setenv("WORD", "s3cret")
	s := trial.Serve(t)
	r := trial.New(t, quay).Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "harbour-ci")
	if page := adviceOf(t, r, "--offline"); len(page.Findings) != 0 {
		t.Errorf("before anything ran: %+v", page.Findings)
	}
	failed := r.Run("fog")
	if failed.Of("fog@test").Outcome != "failed" {
		t.Fatalf("%+v", failed)
	}
	r.Write("clear", "")
	if got := r.Run("fog").Of("fog@test"); got.Outcome != "ran" || *got.Reason != "failed-before" {
		t.Fatalf("%+v", got)
	}
	if got := r.Run("fog").Of("fog@test"); got.Outcome != "current" {
		t.Errorf("the report made it run again: %+v", got)
	}
	local := adviceOf(t, r, "--offline")
	if len(local.Findings) != 1 || local.Findings[0].Kind != advice.Flaky || local.Findings[0].At != "grayloft.toml:11" {
		t.Errorf("%+v", local.Findings)
	}
	var shared protocol.AdvicePage
	trial.Wait(t, "the runs are rolled up", func() bool {
		shared = adviceOf(t, r)
		return len(shared.Findings) > 0
	})
	if f := shared.Findings[0]; f.Kind != advice.Flaky || len(f.Tests) != 1 || f.Tests[0] != "Fog" || f.At != "grayloft.toml:11" {
		t.Errorf("%+v", f)
	}
	if a := r.Grayloft("advise", "--strict"); a.Code != 1 || !strings.Contains(a.Out, "Fog@test failed") && !strings.Contains(a.Out, "fog@test failed and passed with the same inputs") {
		t.Errorf("exit %d: %s", a.Code, a.Out)
	}
	if a := r.Grayloft("advise"); a.Code != 0 {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
	text, err := os.ReadFile(r.Path("tests.xml"))
	if err != nil || strings.Contains(string(text), "thick") {
		t.Errorf("the report of the last execution: %s %v", text, err)
	}
	cases, err := s.DB.TaskTests(t.Context(), repositoryOf(t, s), failed.Run, "fog@test", 10)
	if err != nil || len(cases) != 1 || cases[0].Result != junit.Failed || !strings.Contains(cases[0].Message, "thick") || strings.Contains(cases[0].Message, "s3cret") {
		t.Errorf("%+v, %v", cases, err)
	}
}

func repositoryOf(t *testing.T, s *trial.Service) (id int64) {
	t.Helper()
	if err := s.DB.GetContext(t.Context(), &id, `SELECT id FROM repositories WHERE name = $1`, s.Repo); err != nil {
		t.Fatal(err)
	}
	return id
}

func TestStatsSayWhereTimeGoes(t *testing.T) {
	s := trial.Serve(t)
	r := trial.New(t, quay).Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "harbour-ci")
	r.Run("charts")
	r.Write("in", "shallow\n")
	r.Run("charts")
	var page protocol.TaskPage
	trial.Wait(t, "the runs are rolled up", func() bool {
		return json.Unmarshal([]byte(r.Grayloft("stats", "--format", "json").Out), &page) == nil && len(page.Tasks) == 1 && page.Tasks[0].Executed == 2
	})
	var local protocol.TaskPage
	if err := json.Unmarshal([]byte(r.Grayloft("stats", "--offline", "--format", "json").Out), &local); err != nil || local.Tasks[0].Executed != 2 {
		t.Errorf("%v %+v", err, local)
	}
	for _, args := range [][]string{{"stats"}, {"stats", "--offline"}, {"stats", "charts"}, {"stats", "charts", "--offline"}} {
		if a := r.Grayloft(args...); a.Code != 0 || !strings.Contains(a.Out, "charts@test") {
			t.Errorf("%v: %d %s %s", args, a.Code, a.Out, a.Err)
		}
	}
	if a := r.Grayloft("stats", "charts"); !strings.Contains(a.Out, "harbour-ci") || !strings.Contains(a.Out, "files") {
		t.Errorf("%s", a.Out)
	}
	for _, args := range [][]string{{"stats", "--weeks", "0"}, {"stats", "nothing"}} {
		if a := r.Grayloft(args...); a.Code != 2 {
			t.Errorf("%v: exit %d", args, a.Code)
		}
	}
}

func TestOutputsAreListedAndCopiedOut(t *testing.T) {
	s := trial.Serve(t)
	token := s.Token(t, "ci", "trusted", "trusted")
	r := trial.New(t, quay).Login(s.URL, token, "harbour-ci")
	if a := r.Grayloft("outputs", "charts"); a.Code != 2 || !strings.Contains(a.Err, "grayloft run charts@test") {
		t.Errorf("before it ran: %d %s", a.Code, a.Err)
	}
	first := r.Run("charts")
	r.Write("in", "shallow\n")
	r.Run("charts")
	if a := r.Grayloft("outputs", "charts"); a.Code != 0 || !strings.Contains(a.Out, "out/deep/chart") || !strings.Contains(a.Out, "executable") || !strings.Contains(a.Out, "→ deep/chart") {
		t.Errorf("%d %s %s", a.Code, a.Out, a.Err)
	}
	// Of an earlier run, in another checkout: from the service.
	c := r.Clone().Login(s.URL, s.Token(t, "kari", "person/kari", "trusted"), "home")
	to := filepath.Join(t.TempDir(), "new")
	if a := c.Grayloft("outputs", "charts", "--run", first.Run, "--to", to); a.Code != 0 {
		t.Fatalf("%d %s", a.Code, a.Err)
	}
	text, err := os.ReadFile(filepath.Join(to, "out", "link"))
	info, ierr := os.Stat(filepath.Join(to, "out", "deep", "chart"))
	if err != nil || ierr != nil || string(text) != "deep\n" || info.Mode()&0o111 == 0 {
		t.Errorf("%q %v %v %v", text, err, info, ierr)
	}
	if a := c.Grayloft("outputs", "charts", "--run", first.Run, "--to", to); a.Code != 2 || !strings.Contains(a.Err, "not empty") {
		t.Errorf("into a directory with files: %d %s", a.Code, a.Err)
	}
}

func TestARunWritesItsReports(t *testing.T) {
	r := trial.New(t, quay)
	dir := t.TempDir()
	page, xml, trace := filepath.Join(dir, "r.html"), filepath.Join(dir, "r.xml"), filepath.Join(dir, "r.json")
	a := r.Grayloft("run", "charts", "fog", "--keep-going", "--report", "html="+page, "--report", "junit="+xml, "--report", "trace="+trace)
	if a.Code != 1 {
		t.Fatalf("exit %d: %s %s", a.Code, a.Out, a.Err)
	}
	text, err := os.ReadFile(page)
	if err != nil || !strings.Contains(string(text), "charts@test") || !strings.Contains(string(text), "thick") {
		t.Errorf("%v %s", err, text)
	}
	text, err = os.ReadFile(xml)
	if cases, perr := junit.Parse(text); err != nil || perr != nil || len(cases) != 3 {
		t.Errorf("%v %v %v", err, perr, cases)
	}
	if out, err := exec.Command("xmllint", "--noout", "--nonet", "--schema", "../core/junit/testdata/junit.xsd", xml).CombinedOutput(); err != nil {
		t.Errorf("the schema: %v\n%s", err, out)
	}
	checkTrace(t, trace)
	for report, want := range map[string]string{"pdf=x": "html=", "html": "html=", "html=" + dir + "/none/x": "no directory"} {
		if a := r.Grayloft("run", "charts", "--report", report); a.Code != 2 || !strings.Contains(a.Err, want) {
			t.Errorf("%s: %d %s", report, a.Code, a.Err)
		}
	}
}

// checkTrace holds a file to the trace event format, in its JSON object form.
func checkTrace(t *testing.T, name string) {
	t.Helper()
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Events []struct {
			Name    *string        `json:"name"`
			Phase   string         `json:"ph"`
			Process *int           `json:"pid"`
			Thread  *int           `json:"tid"`
			At      *float64       `json:"ts"`
			Took    *float64       `json:"dur"`
			Args    map[string]any `json:"args"`
		} `json:"traceEvents"`
	}
	if err := json.Unmarshal(text, &file); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	complete := 0
	for _, e := range file.Events {
		if e.Name == nil || e.Process == nil || e.Thread == nil {
			t.Errorf("an event without a name, process or thread: %+v", e)
		}
		switch e.Phase {
		case "X":
			complete++
			if e.At == nil || e.Took == nil || *e.At < 0 || *e.Took < 0 {
				t.Errorf("%s has no times", *e.Name)
			}
		case "M":
			if e.Args["name"] == nil {
				t.Errorf("%s has no value", *e.Name)
			}
		default:
			t.Errorf("%s has the phase %q", *e.Name, e.Phase)
		}
	}
	if complete < 2 {
		t.Errorf("%d complete events", complete)
	}
}

// A pattern whose first segment has a wildcard finds files in the project's own
// directory.
func TestOutputsBesideTheDeclarationAreKept(t *testing.T) {
	files := map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.copy]
run = "cp in.txt copy.made; mkdir -p sub; cp in.txt sub/deep.made"
reads = ["in.txt"]
writes = ["*.made", "s*/*.made"]
probes = []
`, "in.txt": "tide\n", ".gitignore": "*.made\n"}
	r := trial.New(t, files)
	r.Run("copy")
	if a := r.Grayloft("outputs", "copy"); !strings.Contains(a.Out, "2 outputs") {
		t.Errorf("%s %s", a.Out, a.Err)
	}
	r.Remove("copy.made")
	r.Remove("sub/deep.made")
	if got := r.Run("copy").Of("copy@test"); got.Outcome != "restored" || r.Read("copy.made") != "tide\n" || r.Read("sub/deep.made") != "tide\n" {
		t.Errorf("%+v", got)
	}
}

// Two places with different versions of a tool do not reuse from each other: the
// probe is named. Where a file differs as well, nothing is.
func TestMissesBetweenPlacesAreFound(t *testing.T) {
	s := trial.Serve(t)
	version := filepath.Join(t.TempDir(), "version")
	have := func(v string) {
		if err := os.WriteFile(version, []byte(v), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	repo := trial.Repository(t)
	harbour := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "` + repo + `"
[probe.tool]
run = "cat ` + version + `"
[task.charts]
run = "cp in out"
reads = ["in"]
writes = ["out"]
probes = ["tool"]
[task.notes]
run = "cp note done"
reads = ["note"]
writes = ["done"]
probes = ["tool"]
`, "in": "0", "note": "0", ".gitignore": "out\ndone\n"}).Login(s.URL, s.TokenFor(t, repo, "ci", "trusted", "trusted"), "harbour-ci")
	isla := s.TokenFor(t, repo, "isla", "person/isla", "person/isla", "trusted")
	for _, text := range []string{"1", "2", "3"} {
		harbour.Write("in", text)
		harbour.Write("note", text)
		harbour.Commit("change")
		have("one")
		if rep := harbour.Run("charts", "notes"); rep.Totals["ran"] != 2 || rep.Of("charts@"+repo).Message != "" {
			t.Fatal(rep.Answer)
		}
		have("two")
		home := harbour.Clone().Login(s.URL, isla, "home")
		home.Write("note", "not committed "+text)
		if rep := home.Run("charts", "notes"); rep.Totals["ran"] != 2 || rep.Of("charts@"+repo).Message != "" {
			t.Fatal(rep.Answer)
		}
	}
	var page protocol.AdvicePage
	trial.Wait(t, "the runs are rolled up", func() bool {
		page = adviceOf(t, harbour)
		return len(page.Findings) > 0
	})
	if f := page.Findings[0]; len(page.Findings) != 1 || f.Kind != advice.PlacesDiffer || f.Task != "charts@"+repo || f.Place != "home" ||
		!strings.Contains(f.Says, "from harbour-ci: probe tool differs") {
		t.Errorf("%+v", page.Findings)
	}
}

func TestARunThatNobodyKnowsIsExplained(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, _ := everyone(t, s)
	r := trial.New(t, sample)
	r.Run("generate")
	for url, want := range map[string]struct {
		code int
		says string
	}{
		s.URL:                {2, "and the service refuses: "},
		"http://127.0.0.1:1": {3, "and the service cannot be reached (connect: connection refused)"},
	} {
		r.Login(url, ci, "here")
		for _, args := range [][]string{{"compare", "zz", "yy"}, {"log", "generate@lib", "--run", "zz"}, {"outputs", "generate@lib", "--run", "zz"}} {
			a := r.Grayloft(args...)
			if a.Code != want.code || !strings.Contains(a.Err, `no run of this checkout starts with "zz", `+want.says) || strings.Contains(a.Err, "Get ") {
				t.Errorf("%s, %q: exit %d, %s", url, args, a.Code, a.Err)
			}
		}
	}
}
