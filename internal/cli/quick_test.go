package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/trial"
)

// A run that finds everything current records what that depended on, and the
// next run relies on it. When any of it changes, the next run must notice.
func TestEveryChangeAfterACurrentRunIsFound(t *testing.T) {
	t.Parallel()
	everyChangeIsFound(t, (*trial.Repo).Run)
}

func TestEveryChangeAfterACurrentPlanIsFound(t *testing.T) {
	t.Parallel()
	everyChangeIsFound(t, (*trial.Repo).Plan)
}

// everyChangeIsFound changes things after a command has recorded what is current.
func everyChangeIsFound(t *testing.T, record func(r *trial.Repo, args ...string) trial.Report) {
	t.Helper()
	const declared = `schema = 1
[repo]
name = "quick"
projects = ["lib"]
[setting.size]
values = ["small", "large"]
default = "small"
[probe.tool]
run = "cat %s"
[probe.steady]
run = "cat tool.version"
reads = ["tool.version"]
`
	const tasks = `[project]
name = "lib"
[task.make]
run = "cat in link > out/x; echo %{setting.size} > out/size; echo $NAME > out/name"
reads = ["in", "link", "to"]
writes = ["out/**"]
env = ["NAME"]
probes = ["tool", "steady"]
[task.check]
run = "test -s out/x; echo"
reads = []
writes = []
probes = []
after = ["make"]
`
	tool := filepath.Join(t.TempDir(), "tool")
	if err := os.WriteFile(tool, []byte("1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	write := func(r *trial.Repo, name, text string) func() { return func() { r.Write(name, text) } }
	r := trial.New(t, map[string]string{
		"grayloft.toml": strings.Replace(declared, "%s", tool, 1), "lib/loft.toml": strings.Replace(tasks, "cat in", "mkdir -p out; cat in", 1),
		"lib/in": "in\n", "lib/to": "to\n", "tool.version": "1\n", ".gitignore": "out/\n",
	})
	if err := os.Symlink("to", r.Path("lib/link")); err != nil {
		t.Fatal(err)
	}
	r.Commit("link")
	r.Env = append(r.Env, "NAME=a")
	quick := ".grayloft/current" // recorded for both tasks, once all files are settled
	settle := func() {
		t.Helper()
		r.Remove(quick)
		r.Run("check", "make")
		trial.Wait(t, "fingerprints to be recorded", func() bool {
			allAre(t, "before", record(r, "check", "make"), "current")
			return r.Has(quick) && strings.Count(r.Read(quick), "@lib") == 2
		})
		allAre(t, "by fingerprints", r.Run("check", "make"), "current")
	}
	settle()
	for _, c := range []struct {
		what   string
		change func()
		args   []string
		make   string // its outcome
		check  string
	}{
		{"a file", write(r, "lib/in", "IN\n"), nil, "ran", "ran"},
		{"a file of the same length, with its time set back", func() {
			info, err := os.Stat(r.Path("lib/in"))
			if err != nil {
				t.Fatal(err)
			}
			r.Write("lib/in", "ni\n")
			if err := os.Chtimes(r.Path("lib/in"), info.ModTime(), info.ModTime()); err != nil {
				t.Fatal(err)
			}
		}, nil, "ran", "ran"},
		{"what a link leads to", write(r, "lib/to", "TO\n"), nil, "ran", "ran"},
		{"an output", write(r, "lib/out/x", "other\n"), nil, "restored", "current"},
		{"an output that is gone", func() { r.Remove("lib/out/size") }, nil, "restored", "current"},
		{"something beside the outputs", write(r, "lib/out/more", "x\n"), nil, "restored", "current"},
		{"a probe's answer", func() {
			if err := os.WriteFile(tool, []byte("2\n"), 0o644); err != nil {
				t.Fatal(err)
			}
		}, nil, "ran", "current"},
		{"what a steady probe reads", write(r, "tool.version", "2\n"), nil, "ran", "current"},
		{"a variable", func() { r.Env = append(r.Env, "NAME=b") }, nil, "ran", "ran"},
		{"a setting", func() {}, []string{"--set", "size=large"}, "ran", "ran"},
		{"the declaration", func() {
			r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "echo $NAME", "echo NAME $NAME", 1))
		}, nil, "ran", "ran"},
		{"nothing that counts", write(r, "lib/unread", "x\n"), nil, "current", "current"},
		{"the arguments", func() {}, []string{"--", "x"}, "ran", "ran"},
		{"what is asked", func() {}, []string{"--no-reuse"}, "ran", "ran"},
	} {
		c.change()
		got := r.Run(append([]string{"check", "make"}, c.args...)...).Outcomes()
		if got["make@lib"] != c.make || got["check@lib"] != c.check {
			t.Errorf("%s changed: %v", c.what, got)
		}
		settle()
	}
}

// What a run remembers for the next one serves every call in which it holds: also for other tasks, and
// with other values of what the tasks do not depend on.
func TestWhatIsRememberedServesOtherCalls(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		".gitignore": "out\n", "in": "in\n",
		"grayloft.toml": `schema = 1
[repo]
name = "calls"
[setting.used]
type = "int"
default = 1
[setting.other]
type = "int"
default = 1
[probe.steady]
run = "echo steady"
reads = []
[project]
name = "calls"
[task.make]
run = "cp in out"
reads = ["in"]
writes = ["out"]
probes = ["steady"]
env_unkeyed = ["AGENT"]
secrets = ["TOKEN"]
settings = ["used"]
[task.check]
run = "test -s out"
reads = []
writes = []
probes = []
after = ["make"]
`,
	})
	r.Env = append(r.Env, "AGENT=1", "TOKEN=token-1")
	r.Run("check")
	const remembered = ".grayloft/current"
	trial.Wait(t, "both tasks to be remembered", func() bool {
		r.Run("check")
		return r.Has(remembered) && strings.Count(r.Read(remembered), "@calls") == 2
	})
	before, err := os.Stat(r.Path(remembered))
	if err != nil {
		t.Fatal(err)
	}
	isSame := func() bool {
		after, err := os.Stat(r.Path(remembered))
		return err == nil && os.SameFile(before, after)
	}
	for _, c := range []struct {
		what      string
		args, env []string
	}{
		{"a dependency that is asked for by itself", []string{"check", "make"}, nil},
		{"a setting that no task uses", []string{"check", "--set", "other=2"}, nil},
		{"other values of variables that no key has", []string{"check"}, []string{"AGENT=2", "TOKEN=token-2"}},
		{"another PATH with the same programs", []string{"check"}, []string{"PATH=" + os.Getenv("PATH") + ":/nowhere"}},
	} {
		r.Env = append(r.Env, c.env...)
		r.Run(c.args...)
		if !isSame() {
			t.Errorf("%s: what is remembered was not used", c.what)
		}
	}
	r.Plan("check", "--set", "used=2")
	if rep := r.Plan("check"); rep.Totals["current"] != 2 || !isSame() {
		t.Errorf("after a plan with other values: %v, and what is remembered was not used", rep.Totals)
	}
	trial.Wait(t, "other values to be remembered", func() bool {
		r.Run("check", "--set", "used=2")
		return !isSame()
	})
}

func TestOnlyAFewTasksAreNamedWhoseOutputsAreMoved(t *testing.T) {
	t.Parallel()
	files := map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"many\"\nprojects = [\"p*\"]\n"}
	for i := range 12 {
		files[fmt.Sprintf("p%d/loft.toml", i)] = "[project]\n[task.make]\nrun = \"basename $PWD > out\"\nreads = []\nwrites = [\"out\"]\nprobes = []\n"
	}
	r := trial.New(t, files)
	r.Run("make")
	for i := range 12 {
		r.Write(fmt.Sprintf("p%d/out", i), "by hand\n")
	}
	a := r.Grayloft("run", "make")
	if a.Code != 0 || strings.Count(a.Err, "warning:") != 6 || !strings.Contains(a.Err, "the outputs of 7 more tasks were moved") {
		t.Errorf("%d %s", a.Code, a.Err)
	}
}

// Each of the two probes ends only when the other one runs.
func TestProbesThatAreNotRememberedRunAtTheSameTime(t *testing.T) {
	t.Parallel()
	pipe := filepath.Join(t.TempDir(), "pipe")
	if err := unix.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	r := trial.New(t, map[string]string{"grayloft.toml": fmt.Sprintf("schema = 1\n[repo]\nname = \"t\"\n[probe.ebb]\nrun = \"cat %[1]s\"\n"+
		"[probe.flow]\nrun = \"echo tide > %[1]s\"\n[task.a]\nrun = \"true\"\nreads = []\nwrites = []\nprobes = [\"ebb\", \"flow\"]\n", pipe)})
	for _, want := range []string{"ran", "current"} {
		if rep := r.Run("a"); rep.Of("a@t").Outcome != want {
			t.Errorf("%+v, want %s", rep.Answer, want)
		}
	}
}
