package cli_test

import (
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// A file that git ignores is part of a key only if a pattern of that task leads to it: patterns of other
// tasks, of probes and of offers do not make it a file of the project.
func TestAnIgnoredFileCountsForWhatLeadsToIt(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		".gitignore": "*.out\n/lib/installed/\n/lib/src/gen/\n/lib/local.ini\n",
		"grayloft.toml": `schema = 1
[repo]
name = "ignored"
projects = ["lib", "app"]
[probe.installed]
run = "cat installed/version"
reads = ["installed/version", "installed/when"]
per = "project"
`,
		"lib/loft.toml": `[project]
offers = ["src/**", "local.ini"]
[task.default]
run = "cat src/a > default.out"
writes = ["default.out"]
probes = ["installed"]
[task.wide]
run = "cat src/a > wide.out"
reads = ["**", "!*.out"]
writes = ["wide.out"]
probes = []
[task.leads]
run = "cat src/gen/b local.ini > leads.out"
reads = ["src/gen/**", "local.ini"]
writes = ["leads.out"]
probes = []
`,
		"lib/src/a": "a\n",
		"app/loft.toml": `[project]
needs = ["lib"]
[task.copy]
run = "cat ../lib/src/a > copy.out"
reads = ["needs:*"]
writes = ["copy.out"]
probes = []
`,
	})
	r.Write("lib/installed/version", "1\n")
	r.Write("lib/installed/when", "12:00\n")
	r.Write("lib/src/gen/b", "b\n")
	r.Write("lib/local.ini", "one\n")
	remembered := func() {
		t.Helper()
		r.Run("--pick", "all")
		trial.Wait(t, "what is current to be remembered", func() bool {
			allAre(t, "nothing changed", r.Run("--pick", "all"), "current")
			const file = ".grayloft/current"
			return r.Has(file) && strings.Count(r.Read(file), "@lib")+strings.Count(r.Read(file), "@app") == 4
		})
	}
	write := func(name, text string) func() { return func() { r.Write(name, text) } }
	for _, c := range []struct {
		what   string
		change func()
		ran    []string
	}{
		{"a file of a probe, with the same answer", write("lib/installed/when", "13:00\n"), nil},
		{"a file of one task", write("lib/src/gen/b", "B\n"), []string{"leads@lib"}},
		{"a file of one task that is offered", write("lib/local.ini", "two\n"), []string{"copy@app", "leads@lib"}},
		{"a probe's answer", write("lib/installed/version", "2\n"), []string{"default@lib"}},
		{"an ignored file that git tracks now", func() { r.Git("add", "-f", "lib/src/gen/b") }, []string{"copy@app", "default@lib", "wide@lib"}},
		{"what is ignored", write(".gitignore", "*.out\n/lib/installed/\n/lib/src/gen/\n"), []string{"default@lib", "wide@lib"}},
	} {
		remembered()
		c.change()
		var ran []string
		for task, outcome := range r.Run("--pick", "all").Outcomes() {
			if outcome == "ran" {
				ran = append(ran, task)
			}
		}
		if slices.Sort(ran); !slices.Equal(ran, c.ran) {
			t.Errorf("%s: %q ran, want %q", c.what, ran, c.ran)
		}
	}
}

// What git ignores is not there in every checkout, so check cannot say that a pattern for it is wrong.
func TestCheckKnowsPatternsForIgnoredFiles(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		".gitignore": "gen/\nlocal.ini\n*.log\n",
		"grayloft.toml": `schema = 1
[repo]
name = "patterns"
[project]
[task.make]
run = "true"
reads = ["in", "local.ini", "gen/**", "deep/gen/x", "logs/**", "gone"]
writes = []
probes = []
`,
		"in": "in\n", "other": "x\n",
	})
	r.Write("local.ini", "here\n")
	r.Write("logs/a.log", "ignored, and the pattern does not lead to it\n")
	answer := r.Grayloft("check", "pattern-empty")
	for pattern, reported := range map[string]bool{
		"local.ini": false, "gen/**": false, "deep/gen/x": false, "logs/**": true, "gone": true,
	} {
		if strings.Contains(answer.Out, "\""+pattern+"\" matches no file") != reported {
			t.Errorf("%s, want a finding: %t\n%s", pattern, reported, answer.Out)
		}
	}
}

// A task that makes less where a file says what was made before: the file is named, since its outputs
// would be kept as a whole although they are a part.
func TestAFileThatSaysWhatWasMadeIsNamed(t *testing.T) {
	t.Parallel()
	const run = "for f in a b; do cmp -s \\\"src/$f\\\" \\\".made-$f\\\" || { mkdir -p out; cp \\\"src/$f\\\" out/; cp \\\"src/$f\\\" \\\".made-$f\\\"; }; done"
	declared := func(more string) map[string]string {
		return map[string]string{
			"grayloft.toml":  "schema = 1\n[repo]\nname = \"ferry\"\nprojects = [\"tide\"]\n",
			"tide/loft.toml": "[task.build]\nrun = \"" + run + "\"\nreads = [\"src/*\"]\nprobes = []\n" + more,
			"tide/src/a":     "1\n", "tide/src/b": "1\n", ".gitignore": ".made-*\nout\n",
		}
	}
	r := trial.New(t, declared("writes = [\"out/**\"]\n"))
	for n, want := range []string{"tide/.made-a changed while it ran", "tide/.made-b changed while it ran"} {
		a := r.Grayloft("run", "build")
		if a.Code != 0 || !strings.Contains(a.Err, "build@tide: "+want) || n > 0 && strings.Contains(a.Err, "made-a") {
			t.Errorf("run %d: exit %d, %s", n, a.Code, a.Err)
		}
		r.Write("tide/src/b", "2\n")
	}
	// What is declared as an output is complete.
	r = trial.New(t, declared("writes = [\"out/**\", \".made-*\"]\n"))
	r.Run("build")
	r.Write("tide/src/b", "2\n")
	if r.Run("build"); r.Read("tide/out/a") != "1\n" || r.Read("tide/out/b") != "2\n" {
		t.Error("the outputs are not whole")
	}
	for _, more := range []string{
		"writes = [\"out/**\", \".made-*\"]\n", "writes = [\"out/**\"]\nscratch = [\".made-*\"]\n", "writes = [\"out/**\"]\nreports = [\".made-*\"]\n",
		"writes = [\"out/**\"]\nisolation = \"sealed\"\n",
	} {
		if strings.Contains(more, "sealed") {
			needsSeal(t)
		}
		if a := trial.New(t, declared(more)).Grayloft("run", "build"); a.Code != 0 || strings.Contains(a.Err, "changed while it ran") {
			t.Errorf("%s: exit %d, %s", more, a.Code, a.Err)
		}
	}
}
