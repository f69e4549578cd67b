package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// A wrong result, which something that is not declared made, can be got rid of: by running the task
// again without reuse, or by name.
func TestAWrongResultIsWithdrawn(t *testing.T) {
	t.Parallel()
	secret := filepath.Join(t.TempDir(), "undeclared")
	set := func(text string) {
		t.Helper()
		if err := os.WriteFile(secret, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	set("wrong\n")
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"t\"\n[task.a]\nrun = \"cat " + secret + " > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n" +
			"[task.b]\nrun = \"cat out > made\"\nreads = []\nwrites = [\"made\"]\nprobes = []\nafter = [\"a\"]\n",
		"in": "1\n", ".gitignore": "out\nmade\n",
	})
	second := &trial.Repo{T: t, Dir: r.Dir + "-second", Env: r.Env}
	r.Git("clone", "-q", ".", second.Dir)
	r.Run("b")
	want(t, "on another checkout", second.Run("b").Outcomes(), map[string]string{"a@t": "cached", "b@t": "restored"})
	set("right\n")
	want(t, "what is not declared is not noticed", r.Run("b").Outcomes(), map[string]string{"a@t": "current", "b@t": "current"})
	a := r.Grayloft("run", "a", "--no-reuse")
	if !strings.Contains(a.Err, "gave other outputs than its earlier result") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	for _, where := range []*trial.Repo{r, second} {
		where.Remove("out")
		where.Run("b")
		if got := where.Read("made"); got != "right\n" {
			t.Errorf("%s: made %q", where.Dir, got)
		}
	}
	set("right again\n")
	if a := r.Grayloft("cache", "forget", "a"); a.Code != 0 || !strings.Contains(a.Out, "does not use this result of a@t again") {
		t.Errorf("%+v", a)
	}
	want(t, "after it was forgotten", r.Run("a").Ran(), map[string]string{"a@t": "outputs"})
	if got := r.Read("out"); got != "right again\n" {
		t.Errorf("out is %q", got)
	}
	if a := r.Grayloft("cache", "forget", "c"); a.Code != 2 {
		t.Errorf("a task that does not exist: %+v", a)
	}
}

// What is withdrawn leaves the shelf of whoever found it wrong: nobody gets it again, and nobody can
// put it back.
func TestAWrongResultIsWithdrawnFromItsShelf(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	secret := filepath.Join(t.TempDir(), "undeclared")
	set := func(text string) {
		t.Helper()
		if err := os.WriteFile(secret, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	first := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"" + s.Repo + "\"\n[task.a]\nrun = \"cat " + secret + " > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n",
		"in":            "1\n", ".gitignore": "out\n",
	})
	machine := func(name, writesTo string, reads ...string) *trial.Repo {
		return first.Clone().Login(s.URL, s.Token(t, name, writesTo, reads...), name)
	}
	ci, kari := machine("ci", "trusted", "trusted"), machine("kari", "person/kari", "person/kari", "trusted")
	set("wrong\n")
	ci.Run("a")
	want(t, "a colleague", kari.Run("a").Outcomes(), map[string]string{"a@" + s.Repo: "fetched"})

	// A person's finding does not reach the trusted shelf.
	set("right\n")
	if a := kari.Grayloft("cache", "forget", "a"); a.Code != 0 || strings.Contains(a.Out, "was removed from the shelf") {
		t.Errorf("%+v", a)
	}
	want(t, "a new machine still gets it", machine("new", "", "trusted").Run("a").Outcomes(), map[string]string{"a@" + s.Repo: "fetched"})
	want(t, "the one that forgot it does not", kari.Run("a").Ran(), map[string]string{"a@" + s.Repo: "outputs"})

	// CI's does, and the wrong one cannot come back.
	ci.Run("a", "--no-reuse")
	other := machine("other", "", "trusted")
	want(t, "another new machine", other.Run("a").Outcomes(), map[string]string{"a@" + s.Repo: "fetched"})
	if got := other.Read("out"); got != "right\n" {
		t.Errorf("the shelf has %q", got)
	}
	set("wrong\n")
	again := machine("ci-2", "trusted", "trusted")
	again.Run("a", "--no-reuse")
	if got := machine("third", "", "trusted"); got.Run("a").Of("a@"+s.Repo).Outcome != "fetched" || got.Read("out") != "right\n" {
		t.Errorf("the withdrawn result came back: %q", got.Read("out"))
	}
	if a := ci.Grayloft("cache", "forget", "a"); a.Code != 0 || !strings.Contains(a.Out, "removed from the shelf trusted") {
		t.Errorf("%+v", a)
	}
	set("newer\n")
	want(t, "nobody has a result now", machine("fourth", "", "trusted").Run("a").Ran(), map[string]string{"a@" + s.Repo: "new"})
}

// Outputs with the path of the checkout are restored in that checkout alone, if that is asked for.
func TestPathsOfACheckoutStayThere(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"t\"\ncheckout_paths = \"local\"\n[task.a]\nrun = \"echo $PWD/in > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n",
		"in":            "1\n", ".gitignore": "out\n",
	})
	second := &trial.Repo{T: t, Dir: r.Dir + "-second", Env: r.Env}
	r.Git("clone", "-q", ".", second.Dir)
	r.Run("a")
	want(t, "in another checkout", second.Run("a").Ran(), map[string]string{"a@t": "new"})
	for _, where := range []*trial.Repo{r, second} {
		where.Remove("out")
		want(t, "in its own", where.Run("a").Outcomes(), map[string]string{"a@t": "restored"})
		if got := strings.TrimSpace(where.Read("out")); got != where.Path("in") {
			t.Errorf("%s is in %s", got, where.Dir)
		}
	}
}

// A key that was computed while reuse was "never" was not verified, so it is no last result later.
func TestAResultWithoutReuseIsNotReusedLater(t *testing.T) {
	t.Parallel()
	declared := func(reuse string) string {
		return "schema = 1\n[repo]\nname = \"t\"\n[task.a]\nrun = \"cat in > out; echo later > in\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n" + reuse
	}
	r := trial.New(t, map[string]string{"grayloft.toml": declared("reuse = \"never\"\n"), "in": "first\n", ".gitignore": "out\n"})
	r.Run("a")
	r.Write("in", "first\n")
	r.Run("a")
	r.Write("grayloft.toml", strings.Replace(declared(""), "; echo later > in", "", 1))
	r.Write("grayloft.toml", declared(""))
	r.Write("in", "first\n")
	if got := r.Run("a").Ran(); got["a@t"] == "" {
		t.Error("what ran without a check of its files is current")
	}
}

// A task that runs itself, or what it reads, is told; it does not wait without end.
func TestATaskThatRunsItselfIsTold(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"in": "1\n", ".gitignore": "out\nlog\nown\n"})
	self := "GRAYLOFT_TRIAL_CLIENT=yes " + strings.Join(r.Env, " ") + " " + r.Command().Args[0]
	r.Write("grayloft.toml", "schema = 1\n[repo]\nname = \"t\"\n[task.dep]\nrun = \"cat in > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n"+
		"[task.reader]\nrun = \""+self+" run dep --no-reuse > log 2>&1 || true\"\nreads = []\nwrites = [\"log\"]\nprobes = []\nafter = [\"dep\"]\n"+
		"[task.self]\nrun = \""+self+" run self --no-reuse > own 2>&1 || true\"\nreads = []\nwrites = [\"own\"]\nprobes = []\n")
	for task, c := range map[string]struct{ log, says string }{
		"self": {"own", "self@t runs this command itself"}, "reader": {"log", "reads the outputs of dep@t while it runs this command"},
	} {
		if rep := r.Run(task); rep.Of(task+"@t").Outcome != "ran" {
			t.Errorf("%s: %+v", task, rep.Answer)
		}
		if got := r.Read(c.log); !strings.Contains(got, c.says) {
			t.Errorf("%s: %s", task, got)
		}
	}
}

// What a request says must not decide what a protected job runs.
func TestAProtectedJobTakesNoOpenSettings(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"t\"\n[setting.target]\ndefault = \"all\"\n[setting.size]\nvalues = [\"small\", \"large\"]\ndefault = \"small\"\n" +
			"[task.a]\nrun = \"echo %{setting.target} %{setting.size} > out\"\nreads = []\nwrites = [\"out\"]\nprobes = []\n",
		".gitignore": "out\n",
	})
	job := &trial.Repo{T: t, Dir: r.Dir, Env: append([]string{"GRAYLOFT_PROTECTED_JOB=yes"}, r.Env...)}
	if a := job.Grayloft("run", "a", "--set", "target=x; touch stolen"); a.Code != 2 || !strings.Contains(a.Err, "takes any text") || r.Has("stolen") {
		t.Errorf("%+v", a)
	}
	if a := job.Grayloft("run", "a", "--set", "size=large"); a.Code != 0 {
		t.Errorf("%+v", a)
	}
	if a := r.Grayloft("run", "a", "--set", "target=some"); a.Code != 0 || r.Read("out") != "some small\n" {
		t.Errorf("%+v", a)
	}
}
