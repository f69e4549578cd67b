package cli_test

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// A task that runs looks at its files before and after. What git ignores is not
// asked of git file by file.
func TestIgnoredTreesAreNotAskedFileByFile(t *testing.T) {
	t.Parallel()
	git, err := exec.LookPath("git")
	if err != nil {
		t.Fatal(err)
	}
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"app\"]\n",
		"app/loft.toml": "[task.make]\nrun = \"cat in > out\"\nwrites = [\"out\"]\n",
		"app/in":        "one\n", ".gitignore": "node_modules/\n",
	})
	for i := range 400 {
		r.Write(fmt.Sprintf("app/node_modules/p%d/lib/index.js", i), "x")
	}
	// A git that notes what it is asked about.
	bin, log := t.TempDir(), filepath.Join(t.TempDir(), "asked")
	script := fmt.Sprintf("#!/bin/sh\ncase \" $* \" in *' check-ignore '*) tee -a %s | %s \"$@\";; *) exec %s \"$@\";; esac\n", log, git, git)
	if err := os.WriteFile(filepath.Join(bin, "git"), []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	r.Env = append(r.Env, "PATH="+bin+":"+os.Getenv("PATH"))
	if got := r.Run("make"); !got.OK {
		t.Fatalf("%+v", got)
	}
	asked, _ := os.ReadFile(log) // without a question there is no file
	if n := strings.Count(string(asked), "\x00"); n > 20 {
		t.Errorf("git was asked about %d paths, and only one directory is ignored", n)
	}
}

// A run whose results could not be kept is noted without them; the next run compares with it.
func TestAfterACacheThatTakesNothingTheNextRunKeepsItsResults(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"app\"]\n", ".gitignore": "out\n",
		"app/loft.toml": "[task.make]\nrun = \"cat in > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\n", "app/in": "one\n",
	})
	broken := t.TempDir()
	if err := os.WriteFile(filepath.Join(broken, "segments"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	bad := *r
	bad.Env = append(slices.Clone(r.Env), "GRAYLOFT_CACHE="+broken)
	if a := bad.Grayloft("run", "make"); a.Code != 0 || strings.Count(a.Err, "results are not cached") != 1 {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	for _, want := range []string{"ran", "current"} {
		if rep := r.Run("make"); !rep.OK || rep.Of("make@app").Outcome != want {
			t.Errorf("%+v\n%s", rep.Tasks, rep.Answer.Err)
		}
	}
	if a := bad.Grayloft("why", "make"); a.Code != 0 || !strings.Contains(a.Out, "is no longer in the cache, so nothing can be compared") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if a := bad.Grayloft("why", "make", "--against", "0"); a.Code == 0 || !strings.Contains(a.Err, ": what the task was made from is no longer") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	for _, args := range [][]string{{"log", "make"}, {"plan", "make"}, {"outputs", "make"}, {"history", "make"}} {
		if a := bad.Grayloft(args...); strings.Contains(a.Err, "panic") {
			t.Errorf("%v: %s", args, a.Err)
		}
	}
}

// A probe's program is searched where the probe runs, wherever the client was
// started.
func TestAProbeWithARelativeProgramIsAskedAgainWhenTheProgramChanges(t *testing.T) {
	t.Parallel()
	log := filepath.Join(t.TempDir(), "log")
	tool := "#!/bin/sh\necho asked >> " + log + "\necho version %s\n"
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"app\"]\n[probe.tool]\nrun = [\"./tool.sh\"]\nper = \"project\"\nreads = []\n",
		"app/loft.toml": "[task.make]\nrun = \"./tool.sh > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = [\"tool\"]\n",
		"app/in":        "one\n", "app/tool.sh": fmt.Sprintf(tool, "1"), "docs/x": "x\n",
	})
	if err := os.Chmod(r.Path("app/tool.sh"), 0o755); err != nil {
		t.Fatal(err)
	}
	asked := func() int {
		t.Helper()
		if a := r.GrayloftIn("docs", "plan", "make@app"); a.Code != 0 {
			t.Fatalf("%s%s", a.Out, a.Err)
		}
		b, _ := os.ReadFile(log)
		return strings.Count(string(b), "asked")
	}
	n := asked()
	trial.Wait(t, "the answer is remembered, once the program is old enough", func() bool {
		before := n
		n = asked()
		return n == before
	})
	r.Write("app/tool.sh", fmt.Sprintf(tool, "two"))
	if got := asked(); got != n+1 {
		t.Errorf("after a change it was asked %d times, want %d", got, n+1)
	}
}

// slowUplink cuts every upload of a run after a number of bytes.
type slowUplink struct {
	http.Handler
	left atomic.Int64
}

func (s *slowUplink) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodPut || strings.HasSuffix(r.URL.Path, "/packs") {
		if s.left.Add(-r.ContentLength) < 0 {
			panic(http.ErrAbortHandler)
		}
	}
	s.Handler.ServeHTTP(w, r)
}

// Over a line that carries a third of a large output before it breaks, the
// output arrives in the third run or the fourth.
func TestALargeUploadContinuesInTheNextRun(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	_, brenna := everyone(t, s)
	u, err := url.Parse(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	line := &slowUplink{Handler: httputil.NewSingleHostReverseProxy(u)}
	proxy := httptest.NewServer(line)
	defer proxy.Close()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"app\"]\n[probe.sh]\nrun = \"echo 1\"\nreads = []\n",
		"app/loft.toml": "[task.make]\nrun = \"cp in out\"\nwrites = [\"out\"]\nprobes = [\"sh\"]\n[task.other]\nrun = \"true\"\nreads = [\"none\"]\nwrites = []\nreuse = \"never\"\n",
	}).Login(proxy.URL, brenna, "home")
	data := make([]byte, 25<<20)
	_, _ = rand.Read(data)
	r.Write("app/in", string(data))
	line.left.Store(10 << 20)
	r.Run("make")
	for run := 2; run <= 5; run++ {
		line.left.Store(10 << 20)
		r.Grayloft("run", "other")
		c := r.Clone().Login(s.URL, brenna, "office")
		if c.Write("app/in", string(data)); c.Plan("make").Of("make@app").Outcome == "fetched" {
			if run > 4 {
				t.Errorf("it took %d runs", run)
			}
			return
		}
	}
	t.Error("the output never arrived")
}

func TestResultsFromBeforeTheLoginCanBeShared(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	r := trial.New(t, sample)
	r.Write("lib/loft.toml", r.Read("lib/loft.toml")+"\n[task.private]\nrun = \"true\"\nreads = []\nwrites = []\nprobes = []\nreuse = \"local\"\n")
	r.Run("--pick", "all")
	login := *r
	login.Env = append(slices.Clone(r.Env), "GRAYLOFT_CONFIG="+t.TempDir(), "GRAYLOFT_TOKEN="+brenna)
	if a := login.Grayloft("login", s.URL); a.Code != 0 || !strings.Contains(a.Out, "grayloft cache share") {
		t.Errorf("login does not say what can be shared: %s%s", a.Out, a.Err)
	}
	r.Login(s.URL, ci, "harbour-ci")
	a := r.Grayloft("cache", "share")
	if a.Code != 0 || !strings.Contains(a.Out, "4 results") {
		t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	other := r.Clone().Login(s.URL, brenna, "home").Run("--pick", "all")
	want(t, "another machine", other.Outcomes(), map[string]string{
		"generate@lib": "fetched", "build@app": "fetched", "test@lib": "cached", "test@app": "cached"})
	if a := r.Grayloft("cache", "share"); a.Code != 0 || !strings.Contains(a.Out, "the service already had") {
		t.Errorf("a second time: %s%s", a.Out, a.Err)
	}
	if a := trial.New(t, sample).Grayloft("cache", "share"); a.Code != 2 || !strings.Contains(a.Err, "grayloft login") {
		t.Errorf("without a service: exit %d: %s", a.Code, a.Err)
	}
}

func TestPlanTakesTheFlagsOfRun(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	if a := r.Grayloft("plan", "--keep-going", "--jobs", "3", "--part", "1/1", "--pick", "all"); a.Code != 0 {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
}

// A cache that was deleted costs nothing where the outputs are still there: they are neither
// made again nor moved away.
func TestADeletedCacheLeavesTheOutputsRight(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Run("--pick", "all")
	lose := func() {
		t.Helper()
		if err := os.RemoveAll(cacheOf(r)); err != nil {
			t.Fatal(err)
		}
	}
	lose()
	rep := r.Run("--pick", "all")
	allAre(t, "nothing changed", rep, "current")
	if rep.Answer.Err != "" {
		t.Errorf("%s", rep.Answer.Err)
	}
	lose()
	r.Append("lib/test/t", "more\n")
	want(t, "a task changed", r.Run("--pick", "all").Outcomes(), map[string]string{
		"generate@lib": "current", "build@app": "current", "test@lib": "ran", "test@app": "current"})
	lose()
	r.Append("lib/schema", "two\n")
	rep = r.Run("--pick", "all")
	if x := rep.Of("generate@lib"); x.Outcome != "ran" || strings.Contains(rep.Answer.Err, "displaced") {
		t.Errorf("its old outputs are what it left: %s\n%s", x.Outcome, rep.Answer.Err)
	}
	lose()
	r.Write("app/out/app", "by hand\n")
	rep = r.Run("--pick", "all")
	if x := rep.Of("build@app"); x.Outcome != "ran" || !strings.Contains(rep.Answer.Err, "moved app/out/app to .grayloft/displaced") {
		t.Errorf("what was changed by hand is kept: %s\n%s", x.Outcome, rep.Answer.Err)
	}
}

// One name that is not UTF-8, or one directory that cannot be read, fails what reads it, and
// nothing else.
func TestWhatCannotBeReadFailsItsReadersAlone(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"a\", \"b\"]\n",
		"a/loft.toml":   "[project]\nname = \"a\"\n[task.t]\nrun = \"cat in > out\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n",
		"b/loft.toml": "[project]\nname = \"b\"\n[task.t]\nrun = \"true\"\nreads = [\"in\", \"*.txt\"]\nwrites = []\nprobes = []\n" +
			"[task.deep]\nrun = \"true\"\nreads = [\"closed/deep/x\"]\nwrites = []\nprobes = []\n",
		"a/in": "x\n", "b/in": "x\n", ".gitignore": "out\n",
	})
	home := filepath.Join(filepath.Dir(r.Dir), "home")
	if err := os.Mkdir(home, 0o755); err != nil {
		t.Fatal(err)
	}
	run := func(args ...string) (int, string) {
		c := r.Command(append([]string{"run"}, args...)...)
		c.Env = append(c.Env, "HOME="+home, "GRAYLOFT_CACHE="+home+"/cache", "GRAYLOFT_CONFIG="+home+"/config")
		if os.Getuid() == 0 { // root reads everything
			if out, err := exec.Command("chown", "-R", "nobody", r.Dir, home).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			c.SysProcAttr = &syscall.SysProcAttr{Credential: someoneElse(t)}
		}
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	r.Bin = trial.Build(t)
	for _, dir := range []string{r.Dir, filepath.Dir(r.Bin)} {
		for ; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
			if err := os.Chmod(dir, 0o755); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := errors.Join(os.WriteFile(r.Path("b/\xff.txt"), nil, 0o644), os.Mkdir(r.Path("b/closed"), 0)); err != nil {
		t.Fatal(err)
	}
	if code, out := run("t@a"); code != 0 {
		t.Errorf("a task that reads neither: exit %d\n%s", code, out)
	}
	if code, out := run("t@b"); code != 1 || !strings.Contains(out, `the path "b/\xff.txt" is not UTF-8`) {
		t.Errorf("a task that reads a name: exit %d\n%s", code, out)
	}
	if code, out := run("deep@b"); code != 1 || !strings.Contains(out, "the directory b/closed cannot be read") {
		t.Errorf("a task that may read what is in the directory: exit %d\n%s", code, out)
	}
	if err := errors.Join(os.Remove(r.Path("b/\xff.txt")), os.Chmod(r.Path("b/closed"), 0o755)); err != nil {
		t.Fatal(err)
	}
	if code, out := run("t@b", "deep@b"); code != 0 {
		t.Errorf("without both: exit %d\n%s", code, out)
	}
}
