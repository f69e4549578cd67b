package cli_test

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/registry/standin"
	"grayloft.example/grayloft/internal/trial"
)

var pierside = map[string]string{
	"grayloft.toml":        "schema = 1\n[repo]\nname = \"pier\"\nprojects = [\"libs/*\", \"desk\"]\n[pick.mine]\nwhere = \"desk\"\n",
	"go.work":              "go 1.24\n\nuse (\n\t./desk\n\t./libs/money\n)\n",
	"libs/money/loft.toml": "[project]\nname = \"money\"\n",
	"libs/money/go.mod":    "module skerry.example/money\n",
	"libs/money/m.go":      "package money\n",
	"desk/loft.toml":       "[project]\nname = \"desk\" # at the pier\r\n\r\n[task.pack]\r\nrun = \"true\"\r\nreads = [\"*.go\", \"gone/*\"]\r\nwrites = [\"out\"]\r\nprobes = []\r\n",
	"desk/go.mod":          "module skerry.example/desk\n",
	"desk/d.go":            "package desk\nimport _ \"skerry.example/money\"\n",
	"desk/out":             "tracked\n",
}

func checked(t *testing.T, r *trial.Repo, args ...string) (list []check.Finding, code int) {
	t.Helper()
	a := r.Grayloft(append([]string{"check", "--format", "json"}, args...)...)
	var out struct {
		Findings []check.Finding
		Totals   map[string]int
	}
	if err := json.Unmarshal([]byte(a.Out), &out); err != nil {
		t.Fatalf("%v: exit %d, %s %s", err, a.Code, a.Out, a.Err)
	}
	if out.Totals["error"]+out.Totals["warning"] != len(out.Findings) {
		t.Errorf("%v of %d", out.Totals, len(out.Findings))
	}
	return out.Findings, a.Code
}

// What is wrong is found, what a machine can change is changed and nothing else,
// and the rest fails the check until it is in a baseline.
func TestCheck(t *testing.T) {
	t.Parallel()
	r := trial.New(t, pierside)
	before := r.Read("desk/loft.toml")
	list, code := checked(t, r)
	if code != 1 || len(list) != 4 {
		t.Fatalf("exit %d: %+v", code, list)
	}
	if got, code := checked(t, r, "needs-missing", "--pick", "money"); code != 0 || len(got) != 0 {
		t.Errorf("of another project: exit %d: %+v", code, got)
	}
	a := r.Grayloft("check", "--fix")
	want := strings.Replace(before, "# at the pier\r\n", "# at the pier\r\nneeds = [\"money\"]\r\n", 1)
	if got := r.Read("desk/loft.toml"); a.Code != 1 || got != want ||
		!strings.Contains(a.Out, "Made 1 change. 2 errors, 1 warning.") {
		t.Errorf("exit %d, %s%s\n%q, want\n%q", a.Code, a.Out, a.Err, got, want)
	}
	for _, says := range []string{
		`desk/loft.toml:7:18  error  "gone/*" matches no file`, "git tracks desk/out, which pack@desk writes", "no file names pick:mine",
	} {
		if !strings.Contains(a.Out, says) {
			t.Errorf("it does not say %q:\n%s", says, a.Out)
		}
	}

	if a := r.Grayloft("check", "--write-baseline", "known.json"); a.Code != 0 || !strings.Contains(a.Err, "3 findings recorded") {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
	if a := r.Grayloft("check", "--baseline", "known.json"); a.Code != 0 ||
		a.Out != "Nothing to change. 3 more are in the baseline.\n" {
		t.Errorf("exit %d: %s", a.Code, a.Out)
	}
	r.Append("grayloft.toml", "[check.pattern-empty]\nlevel = \"warning\"\n[check.writes-tracked]\nallow = [\"desk/*\"]\n")
	if list, code := checked(t, r); code != 0 || len(list) != 2 {
		t.Errorf("exit %d: %+v", code, list)
	}
	if a := r.Grayloft("check", "--as", "sarif"); a.Code != 0 || !json.Valid([]byte(a.Out)) ||
		!strings.Contains(a.Out, `"version": "2.1.0"`) {
		t.Errorf("exit %d: %s", a.Code, a.Out)
	}
}

func TestManyFindingsOfAPlaceAreCounted(t *testing.T) {
	t.Parallel()
	files := map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"quay\"\n[task.build]\nrun = \"true\"\nreads = [\"a\"]\nwrites = [\"lib/**\"]\n", "a": ""}
	for i := range 20 {
		files[fmt.Sprintf("lib/%02d.js", i)] = ""
	}
	r := trial.New(t, files)
	a := r.Grayloft("check", "writes-tracked")
	if !strings.Contains(a.Out, "lib/02.js") || strings.Contains(a.Out, "lib/03.js") ||
		!strings.Contains(a.Out, "error  17 more of this (--verbose lists them)  [writes-tracked]\n20 errors, 0 warnings.") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	if a := r.Grayloft("check", "writes-tracked", "--verbose"); strings.Count(a.Out, "git tracks lib/") != 20 || strings.Contains(a.Out, "more of this") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	if list, _ := checked(t, r, "writes-tracked"); len(list) != 20 {
		t.Errorf("%d findings for programs", len(list))
	}
}

func TestMistakesAboutChecksAreExplained(t *testing.T) {
	t.Parallel()
	r := trial.New(t, pierside)
	if err := os.WriteFile(r.Path("bad.json"), []byte("[]"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ args, says string }{
		{"zzz", `"zzz" is not a rule; the rules are needs-missing`}, {"unusd", `did you mean "unused"?`}, {"--as xml", "text or sarif"}, {"--baseline none.json", "no such file"},
		{"--baseline bad.json", "is not a baseline"}, {"--write-baseline x --fix", "without --fix"}, {"--pick nowhere", "nowhere"},
	} {
		if a := r.Grayloft(append([]string{"check"}, strings.Fields(c.args)...)...); a.Code != 2 ||
			!strings.Contains(a.Err, c.says) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
	r.Append("grayloft.toml", "[check.need-missing]\nlevel = \"loud\"\n[check.unused]\nlevel = \"loud\"\n")
	if a := r.Grayloft("check"); a.Code != 2 || !strings.Contains(a.Err, `did you mean "needs-missing"?`) ||
		!strings.Contains(a.Err, `level = "loud" is not valid`) {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
}

// A check of the same files is not made again, and one of other files or rules is.
func TestACheckIsRememberedWhileNothingChanges(t *testing.T) {
	t.Parallel()
	r := trial.New(t, pierside)
	remembered := func() (os.FileInfo, bool) {
		info, err := os.Stat(r.Path(".grayloft/checked"))
		return info, err == nil
	}
	r.Grayloft("plan", "pack")
	settle := func() os.FileInfo {
		for range 500 { // a file counts as unchanged once a later change of it would show
			r.Grayloft("check")
			if info, ok := remembered(); ok {
				return info
			}
		}
		t.Fatal("it is never remembered")
		return nil
	}
	before := settle()
	first, _ := checked(t, r)
	if after, _ := remembered(); !after.ModTime().Equal(before.ModTime()) || len(first) != 4 {
		t.Errorf("it was made again, or found %d", len(first))
	}
	if list, _ := checked(t, r, "unused"); len(list) != 1 {
		t.Errorf("of one rule: %+v", list)
	}
	if list, _ := checked(t, r, "--pick", "money"); len(list) != 0 {
		t.Errorf("of one project: %+v", list)
	}
	r.Append("libs/money/m.go", "import _ \"pier.example/fog\"\n")
	if list, _ := checked(t, r); len(list) != 5 {
		t.Errorf("after a change: %+v", list)
	}
	r.Git("rm", "-q", "--cached", "desk/out")
	r.Write(".gitignore", "out\n")
	if list, _ := checked(t, r); len(list) != 4 {
		t.Errorf("once git does not track the output any more: %+v", list)
	}
}

// Newer versions come from the registries: where pins.toml decides a version, the pin is
// reported and edited, and a hold keeps versions back.
func TestUpdatesComeFromTheRegistries(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(standin.Handler{
		"go":  {"pier.example/fog": {"v1.2.0", "v1.4.0", "v1.5.0-rc.1", "v2.0.0"}, "pier.example/tide": {"v1.0.0", "v1.0.1"}},
		"npm": {"drawn": {"2.0.0", "2.1.0"}},
	})
	defer s.Close()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[project]\nname = \"desk\"\n",
		"go.mod":        "module skerry.example/desk\n\nrequire (\n\tpier.example/fog v1.2.0\n\tpier.example/tide v1.0.0\n)\n",
		"d.go":          "package desk\n\nimport (\n\t_ \"pier.example/fog\"\n\t_ \"pier.example/tide\"\n)\n",
		"package.json":  "{\"dependencies\": {\"drawn\": \"^2.0.0\"}}\n",
		"d.js":          "import 'drawn';\n",
		"pins.toml":     "[go]\n\"pier.example/fog\" = { version = \"1.2.0\", below = \"2\", why = \"the desk is not ready\" }\n",
	})
	r.Env = append(r.Env, "GOPROXY="+s.URL+"/go", "npm_config_registry="+s.URL+"/npm", "HOME="+t.TempDir())
	a := r.Grayloft("check", "--updates")
	for _, says := range []string{
		`go.mod:5:2  warning  "pier.example/tide" is v1.0.0, 1.0.1 is available  [update-available]`,
		`package.json:1:19  warning  "drawn" is ^2.0.0, 2.1.0 is available`,
		`pins.toml:2:1  warning  "pier.example/fog" is pinned at 1.2.0, 1.4.0 is available; 2.0.0 is held back: the desk is not ready`,
		"0 errors, 3 warnings; --fix changes 3.",
	} {
		if a.Code != 0 || !strings.Contains(a.Out, says) {
			t.Errorf("exit %d, it does not say %q:\n%s%s", a.Code, says, a.Out, a.Err)
		}
	}
	if a := r.Grayloft("check", "--updates", "--fix"); a.Code != 0 ||
		!strings.Contains(a.Out, "Made 4 changes. Nothing to change.") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if got := r.Read("go.mod"); got != "module skerry.example/desk\n\nrequire (\n\tpier.example/fog v1.4.0\n\tpier.example/tide v1.0.1\n)\n" {
		t.Error(got)
	}
	s.Close()
	r.Env = append(r.Env, "GRAYLOFT_CACHE="+t.TempDir())
	a = r.Grayloft("check", "--updates")
	if a.Code != 3 || !strings.Contains(a.Err, s.URL+"/go: ") ||
		!strings.Contains(a.Err, "(for pier.example/fog, pier.example/tide)") ||
		!strings.Contains(a.Out, "Nothing to change. Some versions are not known.") {
		t.Errorf("without a registry: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("check", "update-available"); a.Code != 2 || !strings.Contains(a.Err, "give --updates") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
}

// A terminal gets colours, and CI none, whatever it pretends to be.
func TestCIGetsNoColours(t *testing.T) {
	t.Parallel()
	r := trial.New(t, pierside)
	r.Env = append(r.Env, "CLICOLOR_FORCE=1", "NO_COLOR=", "TERM=xterm-256color")
	if a := r.Grayloft("check"); !strings.Contains(a.Out, "\x1b[") {
		t.Errorf("no colours: %q", a.Out)
	}
	r.Env = append(r.Env, "CI=true")
	if a := r.Grayloft("check"); strings.Contains(a.Out, "\x1b[") {
		t.Errorf("%q", a.Out)
	}
	if a := r.Grayloft("check", "--color", "always"); !strings.Contains(a.Out, "\x1b[") {
		t.Errorf("no colours: %q", a.Out)
	}
}
