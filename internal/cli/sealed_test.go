package cli_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/trial"
)

// needsSeal skips a test if the system cannot fully restrict a task.
func needsSeal(t *testing.T) {
	t.Helper()
	if a := sandbox.Able(t.TempDir()); !a.Files || !a.Place || a.Network != "namespace" {
		t.Skipf("this machine holds sealed tasks %s", a)
	}
}

// sealedRepo has a sealed task make@lib, without probes unless the text starts
// with them.
func sealedRepo(t *testing.T, task string, more ...string) *trial.Repo {
	if !strings.HasPrefix(task, "probes") {
		task = "probes = []\n" + task
	}
	files := map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"sealed\"\nprojects = [\"lib\", \"app\"]\n[probe.node]\nrun = \"node --version\"\nreads = []\n",
		"lib/loft.toml": "[project]\nname = \"lib\"\n[task.make]\nisolation = \"sealed\"\n" + task,
		"lib/in":        "in\n", "lib/other": "other\n", "app/x": "x\n", "app/loft.toml": "[project]\nname = \"app\"\n" + strings.Join(more, "\n"),
	}
	return trial.New(t, files)
}

func TestASealedTaskSeesOnlyWhatItDeclares(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	out := filepath.Join(t.TempDir(), "out") // a path outside the checkout
	listen, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listen.Close()
	port := strconv.Itoa(listen.Addr().(*net.TCPAddr).Port)
	r := sealedRepo(t, `probes = ["node"]
reads = ["in"]
writes = ["out/**"]
run = '''
mkdir out
cat in > out/in
ls | tr '\n' ' ' > out/seen
cat other 2>/dev/null || echo none > out/other
(echo x > `+out+`) 2>/dev/null || echo refused > out/outside
(ls `+filepath.Dir(out)+`) 2>/dev/null || echo refused > out/listed
node -e "require('net').connect(`+port+`,'127.0.0.1').on('error',e=>console.log(e.code)).on('connect',()=>{console.log('through');process.exit()})" > out/net
node -e "const s=require('net').createServer(c=>c.end()).listen(0,'127.0.0.1',()=>require('net').connect(s.address().port,'127.0.0.1').on('connect',()=>{console.log('own');process.exit()}))" > out/own
pwd > out/where
echo $HOME $TMPDIR > out/homes
touch $HOME/a $TMPDIR/b left-behind
'''
`)
	rep := r.Run("make@lib")
	want(t, "outcome", rep.Outcomes(), map[string]string{"make@lib": "ran"})
	for name, text := range map[string]string{
		"in": "in\n", "seen": "in out ", "other": "none\n", "outside": "refused\n", "listed": "refused\n", "net": "ECONNREFUSED\n", "own": "own\n",
		"where": "/srv/grayloft/tree/lib\n", "homes": "/srv/grayloft/home /srv/grayloft/tmp\n",
	} {
		if got := r.Read("lib/out/" + name); got != text {
			t.Errorf("%s: %q, and not %q", name, got, text)
		}
	}
	if _, err := os.Lstat(out); err == nil {
		t.Error("it wrote beside the checkout")
	}
	if r.Has("lib/left-behind") {
		t.Error("a file that is not in its writes was moved to the checkout")
	}
	if r.Has(".grayloft/sealed/" + rep.Run) {
		t.Error("the stage is still there")
	}
	allAre(t, "again", r.Run("make@lib"), "current")
	r.Write("lib/other", "changed\n")
	allAre(t, "after a change that it does not read", r.Run("make@lib"), "current")
	// Another checkout at another path makes the same bytes, the path included.
	c := r.Clone()
	c.Run("make@lib", "--no-reuse")
	if c.Read("lib/out/where") != r.Read("lib/out/where") {
		t.Error("two checkouts have different paths in their outputs")
	}
}

func TestASealedTaskMayUseADeclaredNetwork(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	listen, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listen.Close()
	port := strconv.Itoa(listen.Addr().(*net.TCPAddr).Port)
	r := sealedRepo(t, `reads = ["in"]
writes = ["net"]
network = true
run = "node -e \"require('net').connect(`+port+`,'127.0.0.1').on('connect',()=>{console.log('through');process.exit()})\" > net"
`)
	r.Run("make@lib")
	if got := r.Read("lib/net"); got != "through\n" {
		t.Errorf("%q", got)
	}
}

func TestASealedTaskDependsOnDirectDependenciesOnly(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	const chain = `reads = ["in"]
writes = ["one"]
run = "cat in > one"
[task.two]
isolation = "sealed"
probes = []
reads = []
writes = ["two"]
after = ["make"]
run = "wc -l < one > two"
[task.look]
reads = []
writes = []
probes = []
after = ["two"]
run = "true"
`
	r := sealedRepo(t, chain, `[task.last]
isolation = "sealed"
probes = []
reads = []
writes = ["last"]
after = ["look@lib"]
run = "ls ../lib > last; cat ../lib/two >> last"
`)
	want(t, "first", r.Run("last@app").Outcomes(), map[string]string{"make@lib": "ran", "two@lib": "ran", "look@lib": "ran", "last@app": "ran"})
	if got := r.Read("app/last"); got != "two\n1\n" {
		t.Errorf("it saw %q", got)
	}
	// The number of lines is unchanged: two gives the same output, and the last
	// task, which does not see the first, is not affected.
	r.Write("lib/in", "another\n")
	want(t, "after a change", r.Run("last@app").Outcomes(), map[string]string{"make@lib": "ran", "two@lib": "ran", "look@lib": "ran", "last@app": "current"})
}

func TestScratchOfASealedTaskIsKeptBetweenRuns(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	home := t.TempDir()
	r := sealedRepo(t, `reads = ["in"]
writes = ["out"]
scratch = ["state", "home:.cache/tool"]
run = "echo x >> state/count; echo y >> $HOME/.cache/tool/count; cat in state/count $HOME/.cache/tool/count > out"
`)
	r.Env = append(r.Env, "HOME="+home)
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), `run = "`, `run = "mkdir -p state; `, 1))
	r.Run("make@lib")
	r.Write("lib/in", "new\n")
	r.Run("make@lib")
	if got := r.Read("lib/out"); got != "new\nx\nx\ny\ny\n" {
		t.Errorf("%q", got)
	}
	if r.Has("lib/state") {
		t.Error("scratch of a sealed task lies in the checkout")
	}
	if b, err := os.ReadFile(filepath.Join(home, ".cache/tool/count")); err != nil || string(b) != "y\ny\n" {
		t.Errorf("%q, %v", b, err)
	}
}

func TestAFailedSealedTaskHintsAtMissingPrograms(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	tools := t.TempDir()
	if err := os.WriteFile(filepath.Join(tools, "our-tool"), []byte("#!/bin/sh\necho made\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	r := sealedRepo(t, "reads = [\"in\"]\nwrites = [\"out\"]\nrun = \"our-tool > out\"\n")
	r.Env = append(r.Env, "PATH="+tools+":"+os.Getenv("PATH"))
	rep := r.Run("make@lib")
	if x := rep.Of("make@lib"); x.Outcome != "failed" || !strings.Contains(x.Message, "dirs of its probes") {
		t.Errorf("%+v", x)
	}
	r.Append("grayloft.toml", "[probe.tool]\nrun = \"our-tool\"\ndirs = [\""+tools+"\"]\n")
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "probes = []", `probes = ["tool"]`, 1))
	r.Run("make@lib")
	if got := r.Read("lib/out"); got != "made\n" {
		t.Errorf("%q", got)
	}
}

// A probe of the repository can name a directory in the project of each task, and in those that this
// needs, such as that of installed packages.
func TestASealedTaskFindsToolsInItsProject(t *testing.T) {
	t.Parallel()
	needsSeal(t)
	r := sealedRepo(t, "probes = [\"packages\"]\nreads = [\"in\"]\nwrites = [\"out\"]\nrun = \"sh installed/fold/tool.sh; cat ../app/installed/fold/text >> out\"\n")
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "[task", "needs = [\"app\"]\n[task", 1))
	r.Write("app/installed/fold/text", "of app\n")
	r.Write(".gitignore", "installed\n")
	r.Write("installed/state", "fold 1\n")
	r.Write("lib/installed/fold/tool.sh", "cat in > out\n")
	r.Append("grayloft.toml", "[probe.packages]\nrun = \"cat installed/state\"\nreads = [\"installed/state\"]\ndirs = [\"repo:installed\"]\n")
	if rep := r.Run("make@lib"); rep.Of("make@lib").Outcome != "failed" {
		t.Errorf("the directory was not declared: %+v", rep.Of("make@lib"))
	}
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), `"repo:installed"`, `"repo:installed", "installed"`, 1))
	if r.Run("make@lib"); r.Read("lib/out") != "in\nof app\n" {
		t.Errorf("%q", r.Read("lib/out"))
	}
}

func TestATracedTaskNamesTheLinesToAddAndRemove(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip("strace is not installed")
	}
	const declared = `[project]
name = "lib"
[task.gen]
reads = []
writes = ["made"]
probes = []
run = "echo made > made"
[task.make]
isolation = "traced"
reads = ["in", "never/*"]
writes = ["out"]
probes = []
run = "cat in ../app/x other made > out; sh sub/tool.sh; (cd sub && cat deep >> ../out); touch extra"
`
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"traced\"\nprojects = [\"lib\", \"app\"]\n",
		"lib/loft.toml": declared, "lib/in": "in\n", "lib/other": "o\n", "lib/never/n": "n\n", "lib/sub/tool.sh": "true\n", "lib/sub/deep": "deep\n",
		"app/x": "x\n", "app/loft.toml": "[project]\nname = \"app\"\n", ".gitignore": "extra\n",
	})
	r.Run("gen@lib")
	x := r.Run("make@lib").Of("make@lib")
	if x.Outcome != "ran" || !strings.Contains(x.Message, "not cached") {
		t.Errorf("%+v", x)
	}
	got := map[string]string{}
	for _, f := range x.Drift {
		verb := "remove"
		if f.Add {
			verb = "add"
		}
		got[verb+" "+f.Key+" "+f.Line] = f.At
	}
	for line, at := range map[string]string{
		`add reads "repo:app/x"`: "lib/loft.toml:10", `add reads "other"`: "lib/loft.toml:10", `add reads "sub/tool.sh"`: "lib/loft.toml:10",
		`add reads "sub/deep"`: "lib/loft.toml:10", `add after "gen@lib"`: "lib/loft.toml:8", `add writes "extra"`: "lib/loft.toml:11", `remove reads "never/*"`: "lib/loft.toml:10",
	} {
		if got[line] != at {
			t.Errorf("%s: at %q, and not %q; all: %v", line, got[line], at, got)
		}
	}
	if len(got) != 7 {
		t.Errorf("%v", got)
	}
	// After following the advice nothing is reported, and the result is cached.
	r.Write("lib/loft.toml", strings.NewReplacer(`reads = ["in", "never/*"]`, `reads = ["in", "repo:app/x", "other", "sub/tool.sh", "sub/deep"]`+"\nafter = [\"gen@lib\"]",
		`writes = ["out"]`, `writes = ["out", "extra"]`).Replace(declared))
	if x := r.Run("make@lib").Of("make@lib"); x.Outcome != "ran" || len(x.Drift) > 0 || x.Message != "" {
		t.Errorf("%+v", x)
	}
	allAre(t, "again", r.Run("make@lib"), "current")
}

func TestWithoutATracerATracedTaskIsNotShared(t *testing.T) {
	t.Parallel()
	bin := t.TempDir() // programs without a tracer
	for _, name := range []string{"sh", "cat", "git", "hostname"} {
		if full, err := exec.LookPath(name); err == nil {
			if err := os.Symlink(full, filepath.Join(bin, name)); err != nil {
				t.Fatal(err)
			}
		}
	}
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	r := sealedRepo(t, "reads = [\"in\"]\nwrites = [\"out\"]\nrun = \"cat in > out\"\n").Login(s.URL, ci, "ci")
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "sealed", "traced", 1))
	r.Commit("traced")
	r.Env = append(r.Env, "PATH="+bin)
	rep := r.Run("make@lib")
	want(t, "without", rep.Outcomes(), map[string]string{"make@lib": "ran"})
	if !strings.Contains(rep.Answer.Err, "strace") || !strings.Contains(rep.Answer.Err, "stay on this machine") {
		t.Errorf("it said %q", rep.Answer.Err)
	}
	allAre(t, "again, here", r.Run("make@lib"), "current")
	c := r.Clone().Login(s.URL, brenna, "home")
	want(t, "elsewhere", c.Run("make@lib").Outcomes(), map[string]string{"make@lib": "ran"})
}

func TestReproduceShowsDifferencesToTheByte(t *testing.T) {
	t.Parallel()
	r := sealedRepo(t, `reads = ["in"]
writes = ["out"]
run = "cat in > out"
[task.clock]
reads = []
writes = ["stamp", "same", "long"]
probes = []
after = ["make"]
run = "printf 'at %s.' $(date +%s) > stamp; cat out > same; pwd > long"
`)
	a := r.Grayloft("reproduce", "make@lib")
	if a.Code != 0 || !strings.Contains(a.Out, "make@lib is reproducible: 1 output") {
		t.Errorf("%d %s%s", a.Code, a.Out, a.Err)
	}
	if r.Has("lib/out") {
		t.Error("what was made only for comparing lies in the checkout")
	}
	a = r.Grayloft("reproduce", "clock@lib")
	if a.Code != 1 || !strings.Contains(a.Out, "clock@lib is not reproducible: 2 of 3 outputs differ") {
		t.Fatalf("%d %s%s", a.Code, a.Out, a.Err)
	}
	for _, part := range []string{"stamp   14 bytes", "long", "first ", "second "} {
		if !strings.Contains(a.Out, part) {
			t.Errorf("%q is missing in\n%s", part, a.Out)
		}
	}
	if strings.Contains(a.Out, "same") {
		t.Errorf("an output that is equal in both runs is shown:\n%s", a.Out)
	}
	if r.Write("lib/in", "x\n"); r.Grayloft("reproduce", "nothing@lib").Code != 2 {
		t.Error("a task that is not there")
	}
}

func TestAKilledClientLeavesNoTaskRunning(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("only Linux tells which processes belong to a task")
	}
	r := sealedRepo(t, `reads = ["in"]
writes = ["out"]
run = "setsid sh -c 'echo $$ > /tmp/$NAME.pid; exec sleep 600' & echo $$ > /tmp/$NAME.leader; cat in > out; wait"
env = ["NAME"]
`)
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "sealed", "open", 1))
	name := filepath.Base(filepath.Dir(r.Dir)) + strconv.Itoa(os.Getpid())
	r.Env = append(r.Env, "NAME="+name)
	pid := func(kind string) int {
		b, _ := os.ReadFile("/tmp/" + name + kind)
		n, _ := strconv.Atoi(strings.TrimSpace(string(b)))
		return n
	}
	t.Cleanup(func() { os.Remove("/tmp/" + name + ".pid"); os.Remove("/tmp/" + name + ".leader") })
	cmd := r.Command("run", "make@lib")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	trial.Wait(t, "the task to run", func() bool { return pid(".pid") > 0 && pid(".leader") > 0 })
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	trial.Wait(t, "what it left to end", func() bool {
		return syscall.Kill(pid(".pid"), 0) != nil && syscall.Kill(pid(".leader"), 0) != nil
	})
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "; wait", "; kill %1 2>/dev/null || true", 1))
	want(t, "the next run", r.Run("make@lib").Outcomes(), map[string]string{"make@lib": "ran"})
	if r.Has(".grayloft/running/" + name) {
		t.Error("a run that ended is still said to go on")
	}
}

func TestDriftFindsTheLinesToChangeAndKeepsNothing(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip("strace is not installed")
	}
	r := sealedRepo(t, `reads = ["in", "old/*", "local.ini"]
writes = ["out"]
run = "cat in other > out"
[task.fine]
reads = ["in"]
writes = ["copy"]
probes = []
after = ["make"]
run = "cat in out > copy"
`)
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), "sealed", "open", 1))
	r.Write(".gitignore", "local.ini\n") // it need not be in every checkout
	a := r.Grayloft("drift")
	if a.Code != 1 {
		t.Fatalf("%d %s%s", a.Code, a.Out, a.Err)
	}
	for _, part := range []string{
		"make@lib\n", "it read lib/other\n    add \"other\" to reads (lib/loft.toml:", "no file matches \"old/*\"\n    remove \"old/*\" from reads (lib/loft.toml:",
		"2 lines to change in 1 of 2 tasks.",
	} {
		if !strings.Contains(a.Out, part) {
			t.Errorf("%q is missing in\n%s", part, a.Out)
		}
	}
	if strings.Contains(a.Out, "fine@lib") {
		t.Errorf("a task that opens what it declares is shown:\n%s", a.Out)
	}
	r.Write("lib/loft.toml", strings.Replace(r.Read("lib/loft.toml"), `"old/*"`, `"other"`, 1))
	if a := r.Grayloft("drift", "make@lib"); a.Code != 0 || !strings.Contains(a.Out, "1 task opened exactly what was declared.") {
		t.Errorf("after the repair: %d %s%s", a.Code, a.Out, a.Err)
	}
	want(t, "a run after it", r.Run("make@lib").Outcomes(), map[string]string{"make@lib": "ran"})
}

func TestDoctorNamesWhatIsMissing(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, _ := everyone(t, s)
	r := trial.New(t, map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\n[task.a]\nrun = \"true\"\n"})
	if a := r.Grayloft("doctor"); !strings.Contains(a.Out, "service       none: only this machine's cache") || !strings.Contains(a.Out, s.Repo+": 1 project, 1 task") {
		t.Errorf("%d %s%s", a.Code, a.Out, a.Err)
	}
	r.Login(s.URL, ci, "here")
	if a := r.GrayloftIn("..", "doctor"); a.Code != 1 || !strings.Contains(a.Out, "there is no grayloft.toml in ") || !strings.Contains(a.Out, "grayloft adopt proposes one") {
		t.Errorf("elsewhere: %d %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("doctor"); !strings.Contains(a.Out, "ci writes to trusted, reads from trusted") {
		t.Errorf("with a service: %d %s%s", a.Code, a.Out, a.Err)
	}
	r.Login("http://127.0.0.1:1", ci, "here")
	if a := r.Grayloft("doctor"); a.Code != 1 || !strings.Contains(a.Out, "✕ service       the service at http://127.0.0.1:1 cannot be reached") {
		t.Errorf("with a service that is not there: %d %s%s", a.Code, a.Out, a.Err)
	}
	config := r.Read(".git/config")
	r.Write(".git/config", "[broken\n")
	if a := r.Grayloft("doctor"); a.Code != 1 || !strings.Contains(a.Out, "✕ repository    git rev-parse: fatal: bad config line 1") {
		t.Errorf("git refuses: %d %s%s", a.Code, a.Out, a.Err)
	}
	r.Write(".git/config", config)
	r.Env = append(r.Env, "GRAYLOFT_CACHE=/dev/null/cache")
	if a := r.Grayloft("doctor"); a.Code != 1 || !strings.Contains(a.Out, "✕ cache") || !strings.Contains(a.Out, "GRAYLOFT_CACHE") {
		t.Errorf("without a cache: %d %s%s", a.Code, a.Out, a.Err)
	}
}
