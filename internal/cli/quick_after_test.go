package cli_test

import (
	"strings"
	"testing"

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

// recorded runs tasks until all of them are current by what is recorded about so many.
func recorded(t *testing.T, r *trial.Repo, n int, args ...string) {
	t.Helper()
	const quick = ".grayloft/current"
	r.Run(args...)
	r.Remove(quick)
	trial.Wait(t, "fingerprints to be recorded", func() bool {
		allAre(t, strings.Join(args, " "), r.Run(args...), "current")
		return r.Has(quick) && strings.Count(r.Read(quick), "@quay")+strings.Count(r.Read(quick), "@ferry") == n
	})
}

// What a task reads can come from a run of that dependency alone: then it is not what the
// task was made from, although nothing of its own changed.
func TestADependencyThatRanAloneIsNoticed(t *testing.T) {
	t.Parallel()
	for what, change := range map[string]func(r *trial.Repo) []string{
		"a file": func(r *trial.Repo) []string {
			r.Write("quay/in", "two\n")
			return nil
		},
		"a setting": func(*trial.Repo) []string { return []string{"--set", "size=large"} },
	} {
		r := between(t)
		recorded(t, r, 2, "passes")
		args := change(r)
		before := r.Read(".grayloft/current")
		trial.Wait(t, "the fingerprint of the dependency to be recorded", func() bool {
			r.Run(append([]string{"berths"}, args...)...)
			return r.Read(".grayloft/current") != before && strings.Contains(r.Read(".grayloft/current"), "berths@quay")
		})
		if rep := r.Run(append([]string{"passes"}, args...)...); rep.Totals["ran"] != 1 || r.Read("ferry/pass") != r.Read("quay/out") {
			t.Errorf("%s: %v, %q made from %q", what, rep.Totals, r.Read("ferry/pass"), r.Read("quay/out"))
		}
	}
}

// In a run, a dependency leaves what the task was made from. What is recorded then must not be
// about what the dependency had left before.
func TestAResultThatFitsOnlyAfterTheRunIsNotRecordedWithTheOneBefore(t *testing.T) {
	t.Parallel()
	r := between(t)
	alone := func(text string) {
		t.Helper()
		r.Write("quay/in", text)
		r.Run("berths")
		before := r.Read(".grayloft/current")
		trial.Wait(t, "the fingerprint of the dependency to be recorded", func() bool {
			r.Run("berths")
			return r.Read(".grayloft/current") != before && strings.Contains(r.Read(".grayloft/current"), "berths@quay")
		})
	}
	recorded(t, r, 2, "passes")
	r.Write("quay/in", "two\n")
	recorded(t, r, 2, "passes")
	alone("one\n")
	r.Write("quay/in", "two\n")
	if rep := r.Run("passes"); rep.Totals["current"] != 1 { // it was made from that
		t.Error(rep.Totals)
	}
	alone("one\n")
	if rep := r.Run("passes"); rep.Totals["current"] != 1 || r.Read("ferry/pass") != r.Read("quay/out") {
		t.Errorf("%v, %q made from %q", rep.Totals, r.Read("ferry/pass"), r.Read("quay/out"))
	}
}
