package cli_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

type whyAnswer struct {
	Outcome  string
	Reason   *string
	On       []string
	Key      string
	Compared struct{ Run, Key, Label string } `json:"compared_with"`
	Changes  []struct {
		Reason, What, How, Path, Was, Is string
		Lines                            []string
	}
}

func why(t *testing.T, r *trial.Repo, args ...string) whyAnswer {
	t.Helper()
	a := r.Grayloft(append([]string{"why", "--format", "json"}, args...)...)
	var w whyAnswer
	if err := json.Unmarshal([]byte(a.Out), &w); err != nil {
		t.Fatalf("why %v: exit %d\n%s%s", args, a.Code, a.Out, a.Err)
	}
	return w
}

func (w whyAnswer) whats() []string {
	out := []string{}
	for _, c := range w.Changes {
		out = append(out, c.Reason+" "+c.What+" "+c.How)
	}
	return out
}

// questioned is a repository in which every ingredient of a key can be changed.
var questioned = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
name = "test"
projects = ["lib", "app"]
since = "main"
[probe.pin]
run = "cat pin"
reads = ["pin"]
[setting.size]
type = "int"
default = 1
`,
	".gitignore": "out\n", "pin": "one\n", "lib/in": "a\nb\nc\n", "lib/bin": "\x00\x01", "app/main": "main\n",
	"lib/loft.toml": "[project]\n[task.make]\nrun = \"cat in bin > out\"\nreads = [\"in\", \"bin\"]\nwrites = [\"out\"]\nprobes = [\"pin\"]\n",
	"app/loft.toml": "[project]\nneeds = [\"lib\"]\n[task.test]\nrun = \"cat main ../lib/out; test -n '%{setting.size}'\"\nreads = [\"main\"]\nwrites = []\nprobes = []\nenv = [\"DEPTH\"]\nafter = [\"make@lib\"]\n",
}

func TestWhyNamesEveryIngredientThatDiffers(t *testing.T) {
	t.Parallel()
	r := trial.New(t, questioned)
	if a := r.Grayloft("why", "make@lib"); a.Code != 2 || !strings.Contains(a.Err, "has no result in this checkout") {
		t.Errorf("never ran: exit %d, %s", a.Code, a.Err)
	}
	r.Run("--pick", "all")
	if w := why(t, r, "make@lib"); w.Outcome != "current" || len(w.Changes) != 0 {
		t.Errorf("nothing changed: %+v", w)
	}
	r.Write("lib/in", "a\nB\nc\n")
	r.Write("lib/bin", "\x00\x02")
	r.Write("pin", "two\n")
	w := why(t, r, "make@lib")
	if want := []string{"probe pin changed", "files bin changed", "files in changed"}; w.Outcome != "ran" || !slices.Equal(w.whats(), want) {
		t.Fatalf("%s %v, want %v", w.Outcome, w.whats(), want)
	}
	if c := w.Changes[0]; c.Was != "one" || c.Is != "two" {
		t.Errorf("the probe's output: %q, %q", c.Was, c.Is)
	}
	if c := w.Changes[2]; c.Path != "lib/in" || !slices.Contains(c.Lines, "-b") || !slices.Contains(c.Lines, "+B") || w.Changes[1].Lines != nil {
		t.Errorf("the lines of a text file: %v; of one that is no text: %v", c.Lines, w.Changes[1].Lines)
	}
	r.Env = append(r.Env, "DEPTH=3")
	w = why(t, r, "test@app", "--set", "size=2")
	if w.Outcome != "may-run" || !slices.Equal(w.On, []string{"make@lib"}) || !slices.Equal(w.whats(), []string{"setting size changed", "environment DEPTH changed"}) {
		t.Errorf("%s on %v: %v", w.Outcome, w.On, w.whats())
	}
	r.Run("make@lib")
	w = why(t, r, "test@app")
	if want := []string{"environment DEPTH changed", "upstream make@lib changed"}; !slices.Equal(w.whats(), want) || !slices.Equal(w.Changes[1].Lines, []string{"out changed"}) {
		t.Errorf("%+v, want %v", w.Changes, want)
	}
	if a := r.Grayloft("why", "make@lib"); !strings.Contains(a.Out, "would not run: its outputs are here and right") || !strings.Contains(a.Out, "It last ran at") || !strings.Contains(a.Out, "the output of a probe changed (pin)") {
		t.Errorf("in words: %s", a.Out)
	}
}

func TestWhyAgainstAnotherRunAndAnotherMachine(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, questioned).Login(s.URL, s.Token(t, "ann", "person/ann", "person/ann", "trusted"), "office")
	ci := r.Clone().Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "fleet")
	ci.Write("lib/in", "a\nb\nc\nd\n")
	if rep := ci.Run("--pick", "all"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	first := r.Run("--pick", "all")
	r.Write("lib/in", "x\n")
	r.Run("--pick", "all")
	if w := why(t, r, "make@lib", "--against", first.Run[:14]); w.Outcome != "current" || w.Compared.Run != first.Run || !slices.Equal(w.whats(), []string{"files in changed"}) {
		t.Errorf("against the first run: %+v", w)
	}
	key := first.Of("make@lib").Key
	if w := why(t, r, "make@lib", "--against", key[:10]); w.Compared.Key != key {
		t.Errorf("by the beginning of a key: %+v", w.Compared)
	}
	for _, of := range []string{"fleet", "ci"} {
		if w := why(t, r, "make@lib", "--against", of); w.Compared.Label != "built by ci at fleet" || !slices.Equal(w.whats(), []string{"files in changed"}) {
			t.Errorf("against %s: %+v", of, w)
		}
	}
	if a := r.Grayloft("why", "make@lib", "--against", "nobody"); a.Code != 2 || !strings.Contains(a.Err, `no entry of make@lib that matches "nobody"`) {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("why", "make@lib", "--against", "fleet", "--offline"); a.Code != 2 || !strings.Contains(a.Err, "if there is a service") {
		t.Errorf("offline: exit %d, %s", a.Code, a.Err)
	}
}

func TestCompareAndHistory(t *testing.T) {
	t.Parallel()
	r := trial.New(t, questioned)
	if a := r.Grayloft("history"); a.Code != 0 || !strings.Contains(a.Out, "No run in this checkout yet") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	one := r.Run("--pick", "all")
	r.Append("app/main", "more\n")
	two := r.Run("--pick", "all")
	r.Write("lib/in", "other\n")
	three := r.Run("--pick", "all")
	var c struct {
		Same  int
		Tasks []struct {
			Task, A, B, Reason string
			Detail             []string
		}
	}
	a := r.Grayloft("compare", one.Run[:12], three.Run, "--format", "json")
	if err := json.Unmarshal([]byte(a.Out), &c); err != nil || len(c.Tasks) != 2 || c.Tasks[0].Task != "make@lib" || c.Tasks[0].Reason != "files" || c.Tasks[1].Reason != "files" {
		t.Errorf("%v: %s%s", err, a.Out, a.Err)
	}
	if a := r.Grayloft("compare", two.Run, three.Run); !strings.Contains(a.Out, "2 tasks have different keys") || !strings.Contains(a.Out, "upstream  make@lib") {
		t.Errorf("make@lib was current in the second run, and stands as the first made it:\n%s%s", a.Out, a.Err)
	}
	if a := r.Grayloft("compare", "--task", "test@app", one.Run, two.Run); !strings.Contains(a.Out, "files         main changed") {
		t.Errorf("one task: %s%s", a.Out, a.Err)
	}
	if a := r.Grayloft("compare", one.Run, "nothing"); a.Code != 2 || !strings.Contains(a.Err, "grayloft history lists them") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("history"); strings.Count(a.Out, "passed") != 3 || !strings.Contains(a.Out, "1 ran, 1 current") {
		t.Errorf("%s", a.Out)
	}
	if a := r.Grayloft("history", "test@app"); strings.Count(a.Out, "ran") != 3 || !strings.Contains(a.Out, "files: main") || !strings.Contains(a.Out, "upstream: make@lib") {
		t.Errorf("%s", a.Out)
	}
	if a := r.Grayloft("log", "test@app", "--run", one.Run[:12]); a.Code != 0 || strings.Contains(a.Out, "more") || !strings.Contains(a.Out, "main") {
		t.Errorf("the log of the first run: %s%s", a.Out, a.Err)
	}
	// A history that is cut off and damaged loses only the damaged records.
	r.Write(".grayloft/history", r.Read(".grayloft/history")+"\n{\"v\":1,\"run\":\"06broken")
	r.Run("--pick", "all")
	if a := r.Grayloft("history"); strings.Count(a.Out, "passed") != 4 {
		t.Errorf("after damage: %s", a.Out)
	}
}

func TestPlanSaysWhatMattersFirst(t *testing.T) {
	t.Parallel()
	r := trial.New(t, questioned)
	if a := r.Grayloft("plan", "--pick", "all"); !strings.HasPrefix(a.Out, "1 of 2 tasks would run, and up to 1 more") || r.Has("lib/out") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	r.Run("--pick", "all")
	if a := r.Grayloft("plan", "--pick", "all"); a.Out != "None of 2 tasks would run.\n  current  2 tasks\n" {
		t.Errorf("%q", a.Out)
	}
	r.Append("lib/in", "more\n")
	p := r.Plan("--pick", "all")
	if m, x := p.Of("make@lib"), p.Of("test@app"); m.Outcome != "ran" || *m.Reason != "files" || x.Outcome != "may-run" || !slices.Equal(x.On, []string{"make@lib"}) || p.Totals["may-run"] != 1 {
		t.Errorf("%+v", p.Tasks)
	}
	before := r.Read(".grayloft/journal")
	if a := r.Grayloft("plan", "test@app"); !strings.Contains(a.Out, "unless make@lib produces the same outputs") || !strings.Contains(a.Out, "compared with run") {
		t.Errorf("%s", a.Out)
	}
	if r.Read(".grayloft/journal") != before {
		t.Error("a plan wrote something down")
	}
	r.Git("rm", "-q", "--cached", "lib/in")
	r.Remove("lib/in")
	r.Write("lib/in/x", "a directory now\n")
	if a := r.Grayloft("plan", "--pick", "all"); a.Code != 0 {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
}
