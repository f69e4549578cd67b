package cli_test

import (
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// settled is a repository with two tasks that use settings, and one that does
// not.
var settled = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
projects = ["*"]
[setting.optimise]
values  = ["none", "size", "speed"]
default = "none"
help    = "how the services are compiled"
[setting.banner]
type    = "string"
default = "hello"
[setting.copies]
type    = "int"
default = 1
[mode.release]
optimise = "speed"
copies   = 3
[kind.k.task.build]
run    = "echo %{setting.optimise} > out"
reads  = []
writes = ["out"]
probes = []
[kind.k.task.note]
run      = 'echo "$GRAYLOFT_SETTING_BANNER" > note'
reads    = []
writes   = ["note"]
probes   = []
settings = ["banner"]
[kind.k.task.plain]
run    = "echo plain > plain"
reads  = []
writes = ["plain"]
probes = []
`,
	"a/loft.toml": "[project]\nkind = \"k\"\n",
}

func TestASettingEntersOnlyTheKeysOfTasksThatUseIt(t *testing.T) {
	t.Parallel()
	r := trial.New(t, settled)
	r.Run("--pick", "all")
	rep := r.Run("--pick", "all", "--set", "optimise=size")
	if got := rep.Ran(); len(got) != 1 || got["build@a"] != "setting" || rep.Of("build@a").Detail[0] != "optimise" || r.Read("a/out") != "size\n" {
		t.Errorf("--set optimise: %v, %q", got, r.Read("a/out"))
	}
	if rep := r.Run("--pick", "all"); rep.Of("build@a").Outcome != "restored" || r.Read("a/out") != "none\n" {
		t.Errorf("left out again: %v", rep.Outcomes())
	}
	if rep := r.Run("--pick", "all", "--mode", "release"); rep.Of("build@a").Outcome != "ran" || r.Read("a/out") != "speed\n" {
		t.Errorf("a mode: %v", rep.Outcomes())
	}
	if rep := r.Run("--pick", "all", "--mode", "release", "--set", "optimise=size"); rep.Of("build@a").Outcome != "restored" || r.Read("a/out") != "size\n" {
		t.Errorf("--set wins over the mode: %v", rep.Outcomes())
	}
	if rep := r.Run("--pick", "all", "--set", "banner=it's a \"quoted\" $day"); rep.Of("note@a").Outcome != "ran" || r.Read("a/note") != "it's a \"quoted\" $day\n" {
		t.Errorf("through the variable: %v, %q", rep.Outcomes(), r.Read("a/note"))
	}
}

func TestWrongValuesOfSettingsAreRefusedWithThePossibleOnes(t *testing.T) {
	t.Parallel()
	r := trial.New(t, settled)
	r.Write("b/loft.toml", "[project]\nname = \"b\"\n[task.shout]\nrun = \"echo %{setting.banner}\"\nwrites = []\n")
	for _, c := range []struct{ args, want string }{
		{"--set optimise=fast", `setting "optimise" cannot be "fast": it takes none, size, speed`},
		{"--set optimize=size", `no setting is named "optimize"; did you mean "optimise"?`},
		{"--set optimise", `add a value for setting "optimise"`},
		{"--set copies=two", `it takes a whole number`},
		{"--mode relaese", `no mode is named "relaese"; did you mean "release"?`},
		{"--set banner=a;b", `write "$GRAYLOFT_SETTING_BANNER" in run instead of %{setting.banner}`},
	} {
		a := r.Grayloft(append([]string{"run", "--pick", "all"}, strings.Fields(c.args)...)...)
		if a.Code != 2 || !strings.Contains(a.Err, c.want) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
}

func TestOnlyTasksWhoseSettingsChangedAreTouched(t *testing.T) {
	t.Parallel()
	r := trial.New(t, settled)
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), `default = "none"`, `default = "size"`, 1))
	if got := reach(t, r); len(got) != 1 || got[0] != "build@a" {
		t.Errorf("another default reaches %v", got)
	}
}

const secretive = `schema = 1
[repo]
name = "test"
[task.call]
run           = 'echo "with $PASS"; mkdir -p out; test -z "$LEAK" || echo "$PASS" > out/leak; echo done > out/done'
reads         = []
writes        = ["out/**"]
probes        = []
env           = ["LEAK"]
secrets       = ["PASS"]
reuse         = "auto"
`

func TestSecretsArePassedOnAndMasked(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, map[string]string{"grayloft.toml": secretive}).Login(s.URL, s.Token(t, "ann", "person/ann", "trusted"), "office")
	env := r.Env
	r.Env = append(env, "PASS=swordfish-1")
	first := r.Run("call")
	if first.Of("call@test").Outcome != "ran" {
		t.Fatalf("%+v", first)
	}
	if a := r.Grayloft("log", "call"); strings.TrimSpace(a.Out) != "with •••" {
		t.Errorf("the log says %q", a.Out)
	}
	r.Env = append(env, "PASS=another")
	if rep := r.Run("call"); rep.Of("call@test").Outcome != "current" {
		t.Errorf("another value is not counted: %+v", rep.Tasks)
	}
	r.Env = env
	if rep := r.Run("call"); rep.Of("call@test").Reason == nil || *rep.Of("call@test").Reason != "environment" {
		t.Errorf("whether it is set is counted: %+v", rep.Tasks)
	}
	r.Env = append(env, "PASS=swordfish-1", "LEAK=yes")
	r.Run("call")
	leaky := r.Run("--no-reuse", "call")
	if !strings.Contains(leaky.Answer.Err, "out/leak contains the value of a secret, so the result stays on this machine") {
		t.Errorf("nothing is said of the leak: %s", leaky.Answer.Err)
	}
	other := r.Clone().Login(s.URL, s.Token(t, "bob", "person/bob", "person/ann"), "home")
	other.Env = append(other.Env, "PASS=swordfish-1", "LEAK=yes")
	if rep := other.Run("call"); rep.Of("call@test").Outcome != "ran" {
		t.Errorf("the secret was shared: %+v", rep.Tasks)
	}
	other.Env = append(other.Env, "LEAK=")
	other.Env = other.Env[:len(other.Env)-2]
	if rep := other.Run("call"); rep.Of("call@test").Outcome != "fetched" {
		t.Errorf("a result without a secret is shared, as declared: %+v", rep.Tasks)
	}
}

func TestLocksAreExclusive(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("schema = 1\n")
	for _, n := range []string{"a", "b", "c", "d"} {
		b.WriteString("[task." + n + "]\nrun = \"mkdir held; sleep 0.05; rmdir held\"\nreads = []\nwrites = []\nlocks = [\"port-7000\"]\n")
	}
	r := trial.New(t, map[string]string{"grayloft.toml": b.String()})
	second := r.Clone()
	second.Env = r.Env // one machine, two checkouts
	b.Reset()
	done := make(chan trial.Report)
	go func() { done <- r.Run("--pick", "all", "--jobs", "4") }()
	two := second.Run("--pick", "all", "--jobs", "4")
	if one := <-done; !one.OK || !two.OK {
		t.Errorf("two held one lock at once: %+v %+v", one.Tasks, two.Tasks)
	}
}

func TestAPassingRetryIsRecorded(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.shaky]
run     = 'n=$(cat tries/n || echo 0); mkdir -p tries; echo $((n+1)) > tries/n; echo half > out; test $((n % 3)) = 2; echo whole > out'
reads   = []
writes  = ["out"]
scratch = ["tries/**"]
retries = 2
`, ".gitignore": ""})
	rep := r.Run("shaky")
	if got := rep.Of("shaky@test"); got.Outcome != "ran" || got.Message != "passed at attempt 3 of 3" || r.Read("out") != "whole\n" {
		t.Errorf("%+v", got)
	}
	if a := r.Grayloft("log", "shaky"); strings.Count(a.Out, "attempt") != 2 {
		t.Errorf("the log: %s", a.Out)
	}
	if rep := r.Run("shaky"); rep.Of("shaky@test").Outcome != "current" {
		t.Errorf("scratch was counted: %+v", rep.Tasks)
	}
	r.Run("--no-reuse", "shaky")
	if got := strings.TrimSpace(r.Read("tries/n")); got != "6" {
		t.Errorf("scratch was not kept between runs: %s tries", got)
	}
	r.Write("tries/n", "0\n")
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "retries = 2", "retries = 1", 1))
	if rep := r.Run("--no-reuse", "shaky"); rep.Of("shaky@test").Outcome != "failed" || rep.Of("shaky@test").Message != "exit 1" {
		t.Errorf("too few attempts: %+v", rep.Tasks)
	}
}

func TestProbesPerProject(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": `schema = 1
[repo]
projects = ["*"]
[probe.part]
run   = 'grep "^$GRAYLOFT_PROJECT " ../lock; cat pin'
per   = "project"
reads = ["repo:lock", "pin"]
[kind.k.task.build]
run    = "true"
reads  = []
writes = []
probes = ["part"]
`,
		"a/loft.toml": "[project]\nkind = \"k\"\n", "b/loft.toml": "[project]\nkind = \"k\"\n",
		"a/pin": "1\n", "b/pin": "1\n", "lock": "a 1\nb 1\n",
	})
	if rep := r.Run("--pick", "all"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	r.Write("lock", "a 2\nb 1\n")
	if got := r.Run("--pick", "all").Ran(); len(got) != 1 || got["build@a"] != "probe" {
		t.Errorf("one project's part of the lock file: %v", got)
	}
	if got := reach(t, r, "b/pin"); len(got) != 1 || got[0] != "build@b" {
		t.Errorf("b/pin reaches %v", got)
	}
	r.Write("b/pin", "2\n")
	if got := r.Run("--pick", "all").Ran(); len(got) != 1 || got["build@b"] != "probe" {
		t.Errorf("one project's own file: %v", got)
	}
	r.Remove("b/pin")
	if a := r.Grayloft("run", "build"); a.Code == 0 || !strings.Contains(a.Err, `probe "part@b"`) {
		t.Errorf("a probe that fails: exit %d, %s", a.Code, a.Err)
	}
}

func TestArgumentsAfterTheDash(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.first]
run    = "echo first"
reads  = []
writes = []
[task.say]
run    = "echo said > out"
reads  = []
writes = ["out"]
after  = ["first"]
[task.words]
run    = ["sh", "-c", "echo $# > words", "sh"]
reads  = []
writes = ["words"]
[task.own]
run    = 'for a in "$@"; do echo "<$a>"; done > own'
reads  = []
writes = ["own"]
`})
	r.Run("--pick", "all", "--", "it's", "a b")
	if r.Read("words") != "2\n" || r.Read("own") != "<it's>\n<a b>\n" {
		t.Errorf("%q %q", r.Read("words"), r.Read("own"))
	}
	r.Run("say")
	rep := r.Run("say", "--", "more")
	if got := rep.Of("say@test"); got.Reason == nil || *got.Reason != "declaration" || got.Detail[0] != "arguments" || r.Read("out") != "said more\n" {
		t.Errorf("%+v %q", got, r.Read("out"))
	}
	if rep.Of("first@test").Outcome != "current" && rep.Of("first@test").Outcome != "cached" {
		t.Errorf("arguments are for what was named: %+v", rep.Tasks)
	}
}

func TestTasksWithSecretsStayHereUnlessDeclared(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	text := strings.Replace(secretive, "reuse         = \"auto\"\n", "", 1)
	r := trial.New(t, map[string]string{"grayloft.toml": text}).Login(s.URL, s.Token(t, "ann", "person/ann", "trusted"), "office")
	r.Env = append(r.Env, "PASS=swordfish-1")
	r.Run("call")
	other := r.Clone().Login(s.URL, s.Token(t, "bob", "person/bob", "person/ann"), "home")
	other.Env = append(other.Env, "PASS=swordfish-1")
	if rep := other.Run("call"); rep.Of("call@test").Outcome != "ran" {
		t.Errorf("a task with secrets was shared: %+v", rep.Tasks)
	}
}

const opening = `schema = 1
[repo]
name = "test"
[task.compile]
run    = "cat main.src helper_test.src > out"
reads  = ["main.src"]
opens  = ["*_test.src"]
writes = ["out"]
probes = []
[task.default]
run    = "cat main.src"
opens  = ["*_test.src"]
writes = []
probes = []
`

// A file in opens is not part of the key, even by default reads; changing it
// while an open task runs does not prevent caching.
func TestOpensAreNotPartOfTheKey(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{"grayloft.toml": opening, "main.src": "main\n", "helper_test.src": "test\n", ".gitignore": "out\n"})
	r.Run("--pick", "all")
	r.Write("helper_test.src", "another test\n")
	allAre(t, "a file in opens changed", r.Run("--pick", "all"), "current")
	r.Write("main.src", "another main\n")
	want(t, "a file in reads changed", r.Run("--pick", "all").Ran(), map[string]string{"compile@test": "files", "default@test": "files"})
	r.Write("grayloft.toml", strings.Replace(opening, "cat main.src helper_test.src > out", "cat main.src > out; echo x >> helper_test.src", 1))
	if rep := r.Run("compile"); rep.Of("compile@test").Message != "" {
		t.Errorf("a change of a file in opens counts: %+v", rep.Tasks)
	}
}

func TestTracedAndSealedTasksKnowOpens(t *testing.T) {
	t.Parallel()
	traced := strings.Replace(opening, "opens  = [\"*_test.src\"]\nwrites = [\"out\"]", "opens  = [\"*_test.src\"]\nisolation = \"traced\"\nwrites = [\"out\"]", 1)
	r := trial.New(t, map[string]string{"grayloft.toml": traced, "main.src": "main\n", "helper_test.src": "test\n", ".gitignore": "out\n"})
	if x := r.Run("compile").Of("compile@test"); x.Outcome != "ran" || len(x.Drift) > 0 || x.Message != "" {
		t.Errorf("a traced task reports a file in opens: %+v", x)
	}
	r.Write("grayloft.toml", strings.Replace(traced, `"traced"`, `"sealed"`, 1))
	if x := r.Run("compile").Of("compile@test"); x.Outcome != "failed" {
		t.Errorf("a sealed task sees a file in opens: %+v", x)
	}
}
