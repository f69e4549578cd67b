package cli_test

import (
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
)

// between is a task of one project that reads what a task of another leaves.
func between(t *testing.T) *trial.Repo {
	return trial.New(t, map[string]string{
		"grayloft.toml": `schema = 1
[repo]
name = "quick"
projects = ["quay", "ferry"]
[setting.size]
values = ["small", "large"]
default = "small"
`,
		"quay/loft.toml": `[project]
name = "quay"
[task.berths]
run = "cat in > out; echo %{setting.size} >> out"
reads = ["in"]
writes = ["out"]
probes = []
`,
		"ferry/loft.toml": `[project]
name = "ferry"
[task.passes]
run = "cat ../quay/out > pass"
reads = []
writes = ["pass"]
probes = []
after = ["berths@quay"]
`,
		"quay/in": "one\n", ".gitignore": "out\npass\n",
	})
}

// recorders are the commands that record what is current.
var recorders = map[string]func(r *trial.Repo, args ...string) trial.Report{"run": (*trial.Repo).Run, "plan": (*trial.Repo).Plan}

// recorded runs tasks, and then has a command record that so many of them are current.
func recorded(t *testing.T, r *trial.Repo, by string, n int, args ...string) {
	t.Helper()
	const quick = ".grayloft/current"
	r.Run(args...)
	r.Remove(quick)
	trial.Wait(t, "fingerprints to be recorded", func() bool {
		allAre(t, strings.Join(args, " "), recorders[by](r, args...), "current")
		return r.Has(quick) && strings.Count(r.Read(quick), "@quay")+strings.Count(r.Read(quick), "@ferry") == n
	})
}

// alone runs the dependency of another project by itself, and then has a command record it.
func alone(t *testing.T, r *trial.Repo, by string, args ...string) {
	t.Helper()
	args = append([]string{"berths"}, args...)
	r.Run(args...)
	before := r.Read(".grayloft/current")
	trial.Wait(t, "the fingerprint of the dependency to be recorded", func() bool {
		allAre(t, "berths", recorders[by](r, args...), "current")
		return r.Read(".grayloft/current") != before
	})
}

// What a task reads can come from a run of that dependency alone: then it is not what the
// task was made from, although nothing of its own changed.
func TestADependencyThatRanAloneIsNoticed(t *testing.T) {
	t.Parallel()
	for by := range recorders {
		for what, change := range map[string]func(r *trial.Repo) []string{
			"a file": func(r *trial.Repo) []string {
				r.Write("quay/in", "two\n")
				return nil
			},
			"a setting": func(*trial.Repo) []string { return []string{"--set", "size=large"} },
		} {
			r := between(t)
			recorded(t, r, by, 2, "passes")
			args := change(r)
			alone(t, r, by, args...)
			if rep := r.Run(append([]string{"passes"}, args...)...); rep.Totals["ran"] != 1 || r.Read("ferry/pass") != r.Read("quay/out") {
				t.Errorf("%s, by a %s: %v, %q made from %q", what, by, rep.Totals, r.Read("ferry/pass"), r.Read("quay/out"))
			}
		}
	}
}

// In a run, a dependency leaves what the task was made from. What is recorded then must not be
// about what the dependency had left before.
func TestAResultThatFitsOnlyAfterTheRunIsNotRecordedWithTheOneBefore(t *testing.T) {
	t.Parallel()
	for by := range recorders {
		r := between(t)
		recorded(t, r, by, 2, "passes")
		r.Write("quay/in", "two\n")
		recorded(t, r, by, 2, "passes")
		r.Write("quay/in", "one\n")
		alone(t, r, by)
		r.Write("quay/in", "two\n")
		recorders["plan"](r, "passes")
		if rep := r.Run("passes"); rep.Totals["current"] != 1 { // it was made from that
			t.Error(rep.Totals)
		}
		r.Write("quay/in", "one\n")
		alone(t, r, by)
		if rep := r.Run("passes"); rep.Totals["current"] != 1 || r.Read("ferry/pass") != r.Read("quay/out") {
			t.Errorf("by a %s: %v, %q made from %q", by, rep.Totals, r.Read("ferry/pass"), r.Read("quay/out"))
		}
	}
}

// Outputs on the disk can be those of an older result, which is then current. What is recorded
// is about the last one.
func TestAnOlderResultOnTheDiskIsNotRecordedAsTheLastOne(t *testing.T) {
	t.Parallel()
	for by := range recorders {
		r := between(t)
		recorded(t, r, by, 2, "passes")
		one := r.Read("quay/out")
		r.Write("quay/in", "two\n")
		recorded(t, r, by, 2, "passes")
		r.Write("quay/in", "one\n")
		r.Write("quay/out", one)
		// What was just written is not recorded in any case, so this goes on for a while.
		for until := time.Now().Add(time.Second); time.Now().Before(until); {
			allAre(t, "the older result, by a "+by, recorders[by](r, "berths"), "current")
		}
		if rep := r.Run("passes"); r.Read("ferry/pass") != one {
			t.Errorf("by a %s: %v, %q made from %q", by, rep.Totals, r.Read("ferry/pass"), one)
		}
	}
}
