package cli_test

import (
	"bufio"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

// A library, files generated from it, a check, and a program that uses it.
var sample = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
name = "test"
projects = ["lib", "app"]
since = "main"
[probe.sh]
run = "echo posix"
reads = []
`,
	".gitignore": "gen/\nout/\n",
	"lib/loft.toml": `[project]
offers = ["src/**", "gen/**"]
[task.generate]
run = "mkdir -p gen && grep -v '^#' schema > gen/types && chmod +x gen/types && ln -sf types gen/link && mkdir -p gen/none"
reads = ["schema"]
writes = ["gen/**"]
probes = ["sh"]
[task.test]
run = "cat src/* test/* && test -x gen/types"
reads = ["src/**", "test/**"]
writes = []
probes = ["sh"]
after = ["generate"]
`,
	"lib/schema": "one\n# a comment\n",
	"lib/src/a":  "a\n",
	"lib/test/t": "t\n",
	"app/main":   "main\n",
	"app/unread": "x\n",
	"app/loft.toml": `[project]
needs = ["lib"]
[task.build]
run = "mkdir -p out && cat main ../lib/src/* ../lib/gen/types > out/app"
reads = ["main", "needs:*"]
writes = ["out/**"]
probes = ["sh"]
after = ["generate@needs:*"]
[task.test]
run = "grep -q main out/app"
reads = []
writes = []
probes = ["sh"]
after = ["build"]
`,
}

func want(t *testing.T, what string, got, want map[string]string) {
	t.Helper()
	if !maps.Equal(got, want) {
		t.Errorf("%s: %v, want %v", what, got, want)
	}
}

func allAre(t *testing.T, what string, rep trial.Report, outcome string) {
	t.Helper()
	for task, o := range rep.Outcomes() {
		if o != outcome {
			t.Errorf("%s: %s is %s, want %s", what, task, o, outcome)
		}
	}
}

func TestFromNewToCurrentToRestored(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	rep := r.Run("--pick", "all")
	want(t, "the first run", rep.Ran(), map[string]string{"generate@lib": "new", "test@lib": "new", "build@app": "new", "test@app": "new"})
	if !rep.OK || rep.Answer.Code != 0 || rep.Totals["ran"] != 4 || len(rep.Totals) != 9 {
		t.Errorf("totals %v, ok %v, exit %d", rep.Totals, rep.OK, rep.Answer.Code)
	}
	if got := r.Read("app/out/app"); got != "main\na\none\n" {
		t.Errorf("it built %q", got)
	}
	allAre(t, "the second run", r.Run("--pick", "all"), "current")

	r.Remove("lib/gen")
	r.Remove("app/out")
	want(t, "after deleting outputs", r.Run("--pick", "all").Outcomes(), map[string]string{
		"generate@lib": "restored", "build@app": "restored", "test@lib": "current", "test@app": "current"})
	if target, err := os.Readlink(r.Path("lib/gen/link")); err != nil || target != "types" {
		t.Errorf("the link came back as %q, %v", target, err)
	}
	if info, err := os.Stat(r.Path("lib/gen/types")); err != nil || info.Mode().Perm() != 0o755 {
		t.Errorf("the executable came back as %v, %v", info.Mode(), err)
	}
	if !r.Has("lib/gen/none") {
		t.Error("the empty directory did not come back")
	}

	r.Write("app/out/app", "tampered")
	r.Write("app/out/more", "left by somebody")
	rep = r.Run("--pick", "all")
	if rep.Of("build@app").Outcome != "restored" || r.Read("app/out/app") != "main\na\none\n" {
		t.Errorf("an altered output: %+v", rep.Of("build@app"))
	}
	found, _ := filepath.Glob(r.Path(".grayloft/displaced/*/app/out/*"))
	if len(found) != 2 || !strings.Contains(rep.Answer.Err, "app/out/more") {
		t.Errorf("what somebody left was not moved aside and named: %v\n%s", found, rep.Answer.Err)
	}
}

func TestOnlyWhatReadsAChangeRunsAndSaysWhy(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Run("--pick", "all")
	for _, c := range []struct {
		what   string
		change func()
		want   map[string]string
	}{
		{"a comment where code is generated from", func() { r.Append("lib/schema", "# more\n") }, map[string]string{"generate@lib": "files"}},
		{"a test file", func() { r.Append("lib/test/t", "more\n") }, map[string]string{"test@lib": "files"}},
		{"a file that nobody reads", func() { r.Append("app/unread", "more\n") }, map[string]string{}},
		{"an offered file", func() { r.Append("lib/src/a", "more\n") }, map[string]string{"test@lib": "files", "build@app": "files", "test@app": "upstream"}},
		{"a new file", func() { r.Write("lib/src/b", "b\n") }, map[string]string{"test@lib": "files", "build@app": "files", "test@app": "upstream"}},
		{"what is generated", func() { r.Append("lib/schema", "two\n") }, map[string]string{"generate@lib": "files", "test@lib": "upstream", "build@app": "upstream", "test@app": "upstream"}},
		{"a bit", func() { os.Chmod(r.Path("app/main"), 0o755) }, map[string]string{"build@app": "files"}},
		{"a definition", func() {
			r.Write("app/loft.toml", strings.Replace(r.Read("app/loft.toml"), "grep -q main", "grep -q 'main'", 1))
		}, map[string]string{"test@app": "declaration"}},
		{"a word of help", func() { r.Append("app/loft.toml", "help = \"check\"\n") }, map[string]string{}},
		{"a probe", func() {
			r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "echo posix", "echo other", 1))
		}, map[string]string{"generate@lib": "probe", "test@lib": "probe", "build@app": "probe", "test@app": "probe"}},
	} {
		c.change()
		rep := r.Run("--pick", "all")
		want(t, c.what, rep.Ran(), c.want)
		if c.what == "a new file" && !slices.Equal(rep.Of("build@app").Detail, []string{"lib/src/b"}) {
			t.Errorf("%s: detail %v", c.what, rep.Of("build@app").Detail)
		}
		if c.what == "a test file" && !slices.Equal(rep.Of("test@lib").Detail, []string{"test/t"}) {
			t.Errorf("%s: detail %v", c.what, rep.Of("test@lib").Detail)
		}
	}
	r.Git("checkout", "-q", ".")
	r.Remove("lib/src/b")
	if ran := r.Run("--pick", "all").Ran(); len(ran) != 0 {
		t.Errorf("going back to what was there ran %v", ran)
	}
}

func TestAFailureBlocksItsDependents(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.bad]
run = "echo before; cat need; mkdir -p out; echo x > out/x; false; echo after"
reads = ["need"]
writes = ["out/**"]
[task.next]
run = "true"
reads = []
writes = []
after = ["bad"]
[task.last]
run = "true"
reads = []
writes = []
after = ["next"]
[task.other]
run = "true"
reads = []
writes = []
`, "need": "needed\n"})
	rep := r.Run("--keep-going", "--pick", "all")
	want(t, "keeping going", rep.Outcomes(), map[string]string{"bad@t": "failed", "next@t": "blocked", "last@t": "blocked", "other@t": "ran"})
	if rep.Answer.Code != 1 || rep.OK || rep.Of("bad@t").Message != "exit 1" {
		t.Errorf("exit %d, %+v", rep.Answer.Code, rep.Of("bad@t"))
	}
	a := r.Grayloft("run", "--pick", "all", "--color", "never")
	if !strings.Contains(a.Out, "│ needed") || strings.Contains(a.Out, "after\n") && strings.Contains(a.Out, "│ after") || !strings.Contains(a.Out, "1 failed and blocks 2 more") {
		t.Errorf("it printed\n%s", a.Out)
	}
	if got := r.Grayloft("log", "bad").Out; got != "before\nneeded\n" {
		t.Errorf("the log says %q", got)
	}
	if reason := r.Run("bad").Of("bad@t").Reason; reason == nil || *reason != "failed-before" {
		t.Errorf("run again because %v", reason)
	}
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "false;", "true;", 1))
	if rep := r.Run("--pick", "all"); !rep.OK || strings.Contains(rep.Answer.Err, "displaced") {
		t.Errorf("after the repair: %v\n%s", rep.Outcomes(), rep.Answer.Err)
	}
}

func TestTasksWithoutWritesAlwaysRun(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.loose]
run = "true"
[task.after]
run = "true"
writes = []
after = ["loose"]
[task.volatile]
run = "true"
writes = []
reuse = "never"
`})
	for range 2 {
		rep := r.Run("--pick", "all")
		want(t, "every time", rep.Ran(), map[string]string{"loose@t": "no-writes", "after@t": "no-writes", "volatile@t": "reuse-never"})
		if d := rep.Of("after@t").Detail; len(d) != 1 || d[0] != "loose@t" {
			t.Errorf("after runs because of %v", d)
		}
	}
	want(t, "without reuse", r.Run("--no-reuse", "volatile").Ran(), map[string]string{"volatile@t": "no-reuse"})
}

func TestTheEnvironmentIsSmallAndPartOfTheKey(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.env]
run = "env | cut -d= -f1 | sort > out; echo \"$GIVEN $PASSED $TZ\" >> out; umask >> out"
reads = []
writes = ["out"]
env = ["PASSED", "GIVEN=yes"]
`, ".gitignore": "out\n"})
	r.Env = append(r.Env, "PASSED=one", "SECRET=leak")
	r.Run("env")
	got := r.Read("out")
	if strings.Contains(got, "SECRET") || !strings.Contains(got, "yes one UTC\n0022\n") {
		t.Errorf("the environment was\n%s", got)
	}
	r.Env = append(r.Env, "PASSED=two")
	rep := r.Run("env")
	want(t, "another value", rep.Ran(), map[string]string{"env@t": "environment"})
	if d := rep.Of("env@t").Detail; len(d) != 1 || d[0] != "PASSED" {
		t.Errorf("detail %v", d)
	}
}

func TestFilesThatChangeWhileATaskRunsPreventCaching(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.edits]
run = "cat in > out; echo more >> in"
reads = ["in"]
writes = ["out"]
[task.litters]
run = "cat in > out2; date > beside"
reads = ["in"]
writes = ["out2"]
`, "in": "x\n", ".gitignore": "out\nout2\n"})
	rep := r.Run("edits")
	if e := rep.Of("edits@t"); e.Outcome != "ran" || !strings.Contains(e.Message, "changed while it ran") {
		t.Errorf("%+v", e)
	}
	rep = r.Run("litters")
	if e := rep.Of("litters@t"); e.Outcome != "ran" || !strings.Contains(e.Message, "beside is new") {
		t.Errorf("%+v", e)
	}
	if o := r.Run("edits").Of("edits@t").Outcome; o != "ran" {
		t.Errorf("what was not kept is %s", o)
	}
}

func TestTrackedFilesAmongOutputsArePutBack(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.gen]
run = "mkdir -p gen; cat in > gen/made"
reads = ["in"]
writes = ["gen/**"]
`, "in": "x\n", "gen/made": "old\n", "gen/kept": "by hand\n"})
	if rep := r.Run("gen"); !rep.OK || r.Read("gen/made") != "x\n" || r.Read("gen/kept") != "by hand\n" {
		t.Errorf("%v, made %q", rep.Outcomes(), r.Read("gen/made"))
	}
	allAre(t, "again", r.Run("gen"), "current")
}

func TestProcessesDoNotOutliveTheirTask(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.daemon]
run = "setsid sh -c 'echo $$ > pid; exec sleep 300' & while [ ! -s pid ]; do sleep 0.01; done"
reads = []
writes = ["pid"]
[task.slow]
run = "sleep 300"
reads = []
writes = []
timeout = "200ms"
[task.crash]
run = "kill -SEGV $$"
reads = []
writes = []
`, ".gitignore": "pid\n"})
	if rep := r.Run("daemon"); !rep.OK {
		t.Fatalf("%+v", rep.Of("daemon@t"))
	}
	pid, err := strconv.Atoi(strings.TrimSpace(r.Read("pid")))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, 0); err == nil {
		t.Errorf("process %d, which left its group, outlived its task", pid)
	}
	rep := r.Run("--keep-going", "slow", "crash")
	if m := rep.Of("slow@t").Message; m != "timed out after 200ms" {
		t.Errorf("slow: %q", m)
	}
	if m := rep.Of("crash@t").Message; m != "ended by signal SIGSEGV" {
		t.Errorf("crash: %q", m)
	}
}

func TestInterruptingLeavesWhatTheNextRunCanTrust(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.first]
run = "mkdir -p a; cat in > a/x"
reads = ["in"]
writes = ["a/**"]
[task.long]
run = "mkdir -p b; cat a/x > b/half; echo going; if [ -e wait ]; then sleep 300; fi; cat a/x > b/whole"
reads = []
writes = ["b/**"]
after = ["first"]
[task.after]
run = "true"
reads = []
writes = []
after = ["long"]
`, "in": "x\n", ".gitignore": "a/\nb/\nwait\n"})
	r.Write("wait", "")
	cmd := r.Command("run", "--format", "text", "--logs", "live", "after")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	sc := bufio.NewScanner(out)
	rest := ""
	for sc.Scan() {
		rest += sc.Text() + "\n"
		if strings.Contains(sc.Text(), "going") {
			_ = cmd.Process.Signal(os.Interrupt)
		}
	}
	err = cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit %d, %v", code, err)
	}
	if !strings.Contains(rest, "stopped") || !strings.Contains(rest, "1 not-started") {
		t.Errorf("it said\n%s", rest)
	}
	if out, _ := exec.Command("pgrep", "-f", "^sleep 300$").Output(); len(out) > 0 && strings.Contains(string(out), "\n\n") {
		t.Errorf("left running: %s", out)
	}
	r.Remove("wait")
	rep := r.Run("after")
	want(t, "the next run", rep.Outcomes(), map[string]string{"first@t": "current", "long@t": "ran", "after@t": "ran"})
	if r.Read("b/whole") != "x\n" {
		t.Error("it did not finish the work")
	}
}

func TestTwoClientsOnOneCheckout(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.count]
run = "echo ran >> ../../count.log; cat in > out; sleep 0.2"
reads = ["in"]
writes = ["out"]
`, "in": "x\n", ".gitignore": "out\n"})
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "../../count.log", r.Path("../count.log"), 1))
	var cmds []*exec.Cmd
	for range 3 {
		cmd := r.Command("run", "count")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		cmds = append(cmds, cmd)
	}
	for _, cmd := range cmds {
		if err := cmd.Wait(); err != nil {
			t.Error(err)
		}
	}
	if got := r.Read("../count.log"); got != "ran\n" {
		t.Errorf("three clients ran the task %d times", strings.Count(got, "ran"))
	}
}

func TestLinksToFilesThatAreNotReadAreRefused(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.read]
run = "cat in/*"
reads = ["in/**"]
writes = []
`, "in/a": "a\n", "secret/b": "b\n"})
	if err := os.Symlink("a", r.Path("in/good")); err != nil {
		t.Fatal(err)
	}
	if rep := r.Run("read"); !rep.OK {
		t.Errorf("a link within what is read: %+v", rep.Of("read@t"))
	}
	for _, target := range []string{"../secret/b", "/etc/hostname", "../../out"} {
		os.Remove(r.Path("in/bad"))
		if err := os.Symlink(target, r.Path("in/bad")); err != nil {
			t.Fatal(err)
		}
		e := r.Run("read").Of("read@t")
		if e.Outcome != "failed" || !strings.Contains(e.Message, "in/bad") || !strings.Contains(e.Message, "add the target to reads") {
			t.Errorf("a link to %s: %+v", target, e)
		}
	}
}

func TestProbes(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[probe.steady]
run = "cat version; echo asked >> asked.log"
reads = ["version"]
[probe.each]
run = "echo asked >> each.log; echo same"
[task.a]
run = "true"
reads = []
writes = []
probes = ["steady", "each"]
`, "version": "1\n", ".gitignore": "*.log\n"})
	for range 3 {
		r.Run("a")
	}
	if got := strings.Count(r.Read("asked.log"), "asked"); got != 1 {
		t.Errorf("a probe that says what it reads was asked %d times, want once", got)
	}
	if got := strings.Count(r.Read("each.log"), "asked"); got != 4 {
		t.Errorf("one that does not was asked %d times, want in every run, and after the task that ran", got)
	}
	r.Write("version", "2\n")
	rep := r.Run("a")
	want(t, "another version", rep.Ran(), map[string]string{"a@t": "probe"})
	if d := rep.Of("a@t").Detail; len(d) != 1 || d[0] != "steady" {
		t.Errorf("detail %v", d)
	}
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "cat version;", "echo no compiler here; exit 3;", 1))
	a := r.Grayloft("run", "a")
	if a.Code != 1 || !strings.Contains(a.Err, `probe "steady"`) || !strings.Contains(a.Err, "exit 3") || !strings.Contains(a.Err, "no compiler here") {
		t.Errorf("a probe that fails: exit %d, %s", a.Code, a.Err)
	}
}

// What starts the chosen version of a toolchain is the same file whichever that is.
func TestAnotherVersionBehindTheSameLauncherIsNoticed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	launch := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	launch("quill", "#!/bin/sh\nexec "+filepath.Join(dir, "quill-chosen")+" \"$@\"\n")
	launch("quill-chosen", "#!/bin/sh\necho quill 1\n")
	r := trial.New(t, map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"t\"\n[probe.quill]\nrun = \"quill --version\"\nreads = []\n" +
		"[task.a]\nrun = \"quill > out\"\nreads = []\nwrites = [\"out\"]\nprobes = [\"quill\"]\n", ".gitignore": "out\n"})
	r.Env = append(r.Env, "PATH="+dir+":"+os.Getenv("PATH"))
	r.Run("a")
	want(t, "the same version", r.Run("a").Outcomes(), map[string]string{"a@t": "current"})
	launch("quill-chosen", "#!/bin/sh\necho quill 2\n")
	want(t, "another version", r.Run("a").Ran(), map[string]string{"a@t": "probe"})
	if got := r.Read("out"); got != "quill 2\n" {
		t.Errorf("the output is of %q", got)
	}
	if a := r.Grayloft("show", "probe:quill"); !strings.Contains(a.Out, "while all that it opens stays the same") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
}

// All of a long answer counts, such as that of a package manager about everything that is
// installed; an error shows its ends.
func TestTheEndOfALongAnswerCounts(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[probe.long]
run = "cat long"
reads = ["long"]
[probe.asked]
run = "cat long && test ! -e broken"
[task.a]
run = "tail -n 1 long > out"
reads = ["none"]
writes = ["out"]
probes = ["long", "asked"]
`, "none": ""}).Login(s.URL, ci, "ci-4")
	long := func(end string) string { return strings.Repeat("é\n", 40_000) + "\xff\n" + end + "\n" }
	for i, end := range []string{"one", "two"} {
		r.Write("long", long(end))
		rep := r.Run("a")
		if rep.Of("a@test").Outcome != "ran" || r.Read("out") != end+"\n" {
			t.Errorf("%d: %s, %q", i, rep.Of("a@test").Outcome, r.Read("out"))
		}
		home := r.Clone().Login(s.URL, brenna, "home")
		home.Write("long", long(end))
		if rep := home.Run("a"); rep.Of("a@test").Outcome != "fetched" || home.Read("out") != end+"\n" {
			t.Errorf("%d, elsewhere: %s, %q", i, rep.Of("a@test").Outcome, home.Read("out"))
		}
	}
	allAre(t, "again", r.Run("a"), "current")
	r.Write("broken", "")
	if a := r.Grayloft("run", "a"); a.Code != 1 || strings.Count(a.Err, "\n") > 30 || !strings.Contains(a.Err, "lines …") {
		t.Errorf("exit %d, %d lines: %.1000s", a.Code, strings.Count(a.Err, "\n"), a.Err)
	}
}

func TestAFileWrittenByTwoTasksIsNotCached(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.one]
run = "mkdir -p gen/rates.json; echo 1 > gen/rates.json/x.txt"
reads = []
writes = ["gen/rates.json"]
[task.two]
run = "true"
reads = []
writes = ["**/*.txt"]
after = ["one"]
`, ".gitignore": "gen/\n"})
	e := r.Run("one").Of("one@t")
	if e.Outcome != "ran" || !strings.Contains(e.Message, "gen/rates.json/x.txt is also an output of two@t") {
		t.Errorf("%+v", e)
	}
}

func TestSlotsAndJobs(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "t"
[task.wide]
run = "mkdir busy && sleep 0.1 && rmdir busy"
reads = []
writes = []
slots = 8
[task.other]
run = "mkdir busy && sleep 0.1 && rmdir busy"
reads = []
writes = []
`, ".gitignore": "busy\n"})
	// A task that needs more slots than exist takes all of them.
	if rep := r.Run("--jobs", "3", "--pick", "all"); !rep.OK {
		t.Errorf("two tasks ran at a time where one takes all slots: %v", rep.Outcomes())
	}
}

func TestARunSaysWhatIsWrongWithItsTasks(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"t\"\n" +
			"[task.typo]\nrun = \"touch made\"\nreads = []\nwrites = [\"out/**\", \"maid\"]\nprobes = []\n" +
			"[task.missing]\nrun = [\"grayloft-no-such-program\"]\nreads = []\nwrites = []\nprobes = []\n" +
			"[task.bad]\nrun = \"exit 1\"\nreads = []\nwrites = []\nprobes = []\n" +
			"[task.after]\nrun = \"true\"\nreads = []\nwrites = []\nprobes = []\nafter = [\"bad\", \"missing\"]\n[task.last]\nrun = \"true\"\nreads = []\nwrites = []\n",
		".gitignore": "made\n",
	})
	a := r.Grayloft("run", "--pick", "all", "--keep-going")
	for _, text := range []string{
		"warning: typo@t: no file matches its writes (out/**, maid)",
		`cannot run "grayloft-no-such-program": no directory of PATH has it`,
		"2 failed and block 1 more",
	} {
		if !strings.Contains(a.Out+a.Err, text) {
			t.Errorf("it does not say %q:\n%s%s", text, a.Out, a.Err)
		}
	}
	r.Write("grayloft.toml", r.Read("grayloft.toml")+"probes = [\"tide\"]\n")
	if a := r.Grayloft("run", "typo"); !strings.Contains(a.Err, "declare it in grayloft.toml: [probe.tide]") {
		t.Errorf("a probe that nobody declared: %s", a.Err)
	}
}
