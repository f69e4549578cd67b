package cli_test

import (
	"encoding/json"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// Each step makes one outcome or reason, and what a plan predicts for it must
// come true. Only interruptions cannot be planned.
func TestPlansComeTrueForEveryOutcomeAndReason(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	const root = "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"p\"]\n[setting.level]\nvalues = [\"low\", \"high\"]\ndefault = \"low\"\n[probe.version]\nrun = \"cat version\"\n"
	const project = `[task.make]
run = "cat in > out; test $(cat in) != broken"
reads = ["in"]
writes = ["out"]
env = ["TRIAL_VALUE"]
settings = ["level"]
probes = ["version"]
[task.test]
run = "test -s out"
reads = []
writes = []
probes = []
after = ["make"]
[task.always]
run = "true"
reads = []
writes = []
reuse = "never"
[task.unknown]
run = "true"
reads = []
`
	r := trial.New(t, map[string]string{"grayloft.toml": root, "p/loft.toml": project, "p/in": "one\n", "version": "1\n"}).Login(s.URL, ci, "harbour-ci")
	seen := map[string]bool{}
	check := func(r *trial.Repo, what string, args ...string) {
		t.Helper()
		plan, run := r.Plan(args...), r.Run(args...)
		failed := run.Totals["failed"] > 0
		for _, x := range plan.Tasks {
			got := run.Of(x.Task)
			seen[got.Outcome] = true
			if got.Reason != nil {
				seen[*got.Reason] = true
			}
			switch {
			case x.Outcome == "may-run", failed && x.Outcome == "ran" && got.Outcome == "failed", failed && got.Outcome == "blocked":
			case x.Outcome != got.Outcome:
				t.Errorf("%s: %s was planned as %s and was %s", what, x.Task, x.Outcome, got.Outcome)
			case x.Reason != nil && *x.Reason != *got.Reason:
				t.Errorf("%s: %s was planned to run for %s and ran for %s", what, x.Task, *x.Reason, *got.Reason)
			}
		}
	}
	all := []string{"make", "test", "always", "unknown"}
	check(r, "the first run", all...)
	check(r, "nothing changed", all...)
	check(r, "without reuse", "--no-reuse", "make")
	check(r, "another setting", "--set", "level=high", "make", "test")
	check(r, "back", "make", "test")
	r.Write("p/in", "two\n")
	check(r, "a file", "make", "test")
	r.Write("version", "2\n")
	check(r, "a probe", "make")
	r.Env = append(r.Env, "TRIAL_VALUE=x")
	check(r, "a variable", "make")
	r.Write("p/loft.toml", strings.Replace(project, "cat in > out;", "cat in > out; true;", 1))
	check(r, "a declaration", "make")
	r.Remove("p/out")
	check(r, "an output was removed", "make")
	r.Write("p/in", "broken\n")
	check(r, "it fails", "--keep-going", "make", "test")
	check(r, "it failed before", "--keep-going", "make", "test")
	r.Write("p/in", "two\n")
	check(r, "it is repaired", "make", "test")

	clone := r.Clone().Login(s.URL, brenna, "home")
	clone.Env = append(clone.Env, "TRIAL_VALUE=x")
	clone.Write("p/loft.toml", r.Read("p/loft.toml"))
	clone.Write("p/in", r.Read("p/in"))
	clone.Write("version", "2\n")
	check(clone, "another machine", "make", "test")

	// Offline, without the blobs of the result.
	r.Env = append(r.Env, "GRAYLOFT_CACHE="+t.TempDir())
	r.Remove("p/out")
	check(r, "no copy is left", "--offline", "make")

	for _, want := range []string{
		"ran", "failed", "blocked", "current", "cached", "restored", "fetched",
		"no-reuse", "reuse-never", "no-writes", "new", "declaration", "setting", "environment", "probe", "files", "upstream", "outputs", "failed-before",
	} {
		if !seen[want] {
			t.Errorf("no step led to %q", want)
		}
	}
}

// How long a run is expected to take depends on how many tasks it runs at a time.
func TestAPlanExpectsTheDurationOfTheWholeRun(t *testing.T) {
	t.Parallel()
	tasks := ""
	for _, name := range []string{"a", "b", "c", "d"} {
		tasks += "[task." + name + "]\nrun = \"sleep 0.3\"\nreads = [\"in\"]\nwrites = []\nprobes = []\n"
	}
	r := trial.New(t, map[string]string{"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"p\"]\n", "p/loft.toml": tasks, "p/in": "1\n"})
	r.Run("a", "b", "c", "d")
	r.Write("p/in", "2\n")
	seconds := func(jobs string) float64 {
		t.Helper()
		var plan struct{ Seconds float64 }
		if err := json.Unmarshal([]byte(r.Grayloft("plan", "a", "b", "c", "d", "--jobs", jobs, "--format", "json").Out), &plan); err != nil {
			t.Fatal(err)
		}
		return plan.Seconds
	}
	one, two, all := seconds("1"), seconds("2"), seconds("4")
	if one < 1.2 || two < one/2-0.01 || two > one*0.9 || all < 0.3 || all > two*0.9 {
		t.Errorf("one at a time %v s, two %v s, all %v s", one, two, all)
	}
}
