package cli_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// shipped is the client as it is shipped: a runner starts itself for its jobs.
var shipped = sync.OnceValue(func() string {
	dir, err := os.MkdirTemp("", "grayloft-shipped-")
	if err != nil {
		panic(err)
	}
	trial.AtEnd(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil { // other users start it as well
		panic(err)
	}
	bin := filepath.Join(dir, "grayloft")
	if out, err := exec.Command("go", "build", "-trimpath", "-o", bin, "grayloft.example/grayloft/cmd/grayloft").CombinedOutput(); err != nil {
		panic(fmt.Sprintf("building the client: %v\n%s", err, out))
	}
	return bin
})

// crew is a repository with an origin, a service, and a person who works in a clone.
type crew struct {
	t      *testing.T
	s      *trial.Service
	origin string
	*trial.Repo
	dir string // of runners
}

// newCrew makes a crew around a repository of the files. A short lease lets a test see what happens after it.
func newCrew(t *testing.T, lease time.Duration, files map[string]string) *crew {
	t.Helper()
	t.Parallel() // most of it is waiting
	return newCrewWith(t, files, func(c *service.Config) { c.RunnerLease = lease })
}

// newCrewWith makes a crew with a changed configuration of the service.
func newCrewWith(t *testing.T, files map[string]string, change func(*service.Config)) *crew {
	t.Helper()
	y := &crew{t: t, s: trial.ServeWith(t, change), dir: t.TempDir()}
	y.origin = filepath.Join(y.dir, "origin.git")
	files["grayloft.toml"] = "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"lib\"]\n"
	first := trial.New(t, files)
	first.Git("clone", "-q", "--bare", ".", y.origin)
	y.Repo = first.Clone()
	y.Git("remote", "set-url", "origin", y.origin)
	y.Git("fetch", "-q")
	y.Bin = shipped()
	y.Login(y.s.URL, y.token(records.Token{Name: "kari", WritesTo: "person/kari", ReadsFrom: []string{"person/kari", "trusted"},
		MayView: true, MayRequest: true}), "north-office")
	return y
}

func (y *crew) token(t records.Token) string {
	y.t.Helper()
	t.Repository = y.s.Repo
	secret, err := y.s.DB.NewToken(context.Background(), t)
	if err != nil {
		y.t.Fatal(err)
	}
	return secret
}

// aRunner is a runner as a process.
type aRunner struct {
	*exec.Cmd
	out   *lockedBuffer
	dir   string
	token string
	ended chan error
}

// runner starts a runner of the pool linux, and waits until it is known.
func (y *crew) runner(name string, flags ...string) *aRunner {
	y.t.Helper()
	return y.runnerAs(func(*exec.Cmd) {}, name, flags...)
}

// runnerAs starts a runner whose command is changed first.
func (y *crew) runnerAs(change func(*exec.Cmd), name string, flags ...string) *aRunner {
	y.t.Helper()
	r := &aRunner{out: &lockedBuffer{}, dir: filepath.Join(y.dir, name), ended: make(chan error, 1)}
	r.token = y.token(records.Token{Name: name, Serves: []string{"linux", "deploy"}})
	at := &trial.Repo{T: y.t, Dir: y.dir, Bin: shipped(), Env: []string{"GRAYLOFT_SERVICE=" + y.s.URL, "GRAYLOFT_TOKEN=" + r.token}}
	r.Cmd = at.Command(append([]string{"runner", "--from", y.origin, "--dir", r.dir, "--name", name, "--pool", "linux"}, flags...)...)
	r.Stdout, r.Stderr = r.out, r.out
	change(r.Cmd)
	if err := r.Start(); err != nil {
		y.t.Fatal(err)
	}
	go func() { r.ended <- r.Wait() }()
	y.t.Cleanup(func() { _ = r.Process.Kill() })
	y.await("the runner registers", func() bool { return strings.Contains(r.out.String(), "serves the pool") || len(r.ended) > 0 })
	if !strings.Contains(r.out.String(), "serves the pool") {
		y.t.Fatalf("the runner ended: %s", r.out.String())
	}
	return r
}

func (y *crew) await(what string, ok func() bool) {
	y.t.Helper()
	for range 600 {
		if ok() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	y.t.Fatalf("it did not happen within 30 s: %s", what)
}

// request makes a request and returns its number.
func (y *crew) request(args ...string) string {
	y.t.Helper()
	a := y.Grayloft(append([]string{"request"}, args...)...)
	var id int
	if _, err := fmt.Sscanf(a.Out, "Request %d waits", &id); err != nil {
		y.t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	return strconv.Itoa(id)
}

// lib makes the files of a project with one task.
func lib(run string) map[string]string {
	return map[string]string{
		".gitignore": "out/\n", "lib/in": "in\n",
		"lib/loft.toml": "[task.build]\nrun = '''" + run + "'''\nreads = [\"in\"]\nwrites = [\"out/**\"]\nprobes = []\n",
	}
}

func TestARequestRunsLocalChangesOnARunner(t *testing.T) {
	y := newCrew(t, 0, lib("mkdir -p out && cat in > out/out && echo built"))
	r := y.runner("north")
	y.Append("lib/in", "changed here\n")
	y.Write("lib/new file", "x")
	a := y.Grayloft("request", "build", "--watch")
	if a.Code != 0 || !strings.Contains(a.Err, "Sent 2 changed files") || !strings.Contains(a.Out, "built") ||
		!strings.Contains(a.Err, "passed on north") {
		t.Fatalf("exit %d: %s%s\n%s", a.Code, a.Out, a.Err, r.out.String())
	}
	// Its result is on the person's shelf.
	if rep := y.Run("build"); rep.Of("build@lib").Outcome != "fetched" || y.Read("lib/out/out") != "in\nchanged here\n" {
		t.Errorf("%+v", rep.Tasks)
	}
	// Nothing of the job is left, and the request has its run.
	if left, _ := os.ReadDir(filepath.Join(r.dir, "jobs")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
	if a := y.Grayloft("requests", "1"); !strings.Contains(a.Out, "Request 1 of kari passed: build at main") ||
		!strings.Contains(a.Out, "+ 2 files") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	// The same again, of the commit alone: the options are the last ones.
	y.Git("checkout", "-q", ".")
	y.Remove("lib/new file")
	if a := y.Grayloft("request", "--again", "--watch"); a.Code != 0 || strings.Contains(a.Err, "Sent") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
}

// What is selected by the history of runs is selected on the runner, by what the service knows.
func TestARunnerSelectsByTheHistoryOfRuns(t *testing.T) {
	y := newCrew(t, 0, lib("mkdir -p out && ! grep fog in && cp in out/"))
	y.runner("north")
	ci := y.Clone().Login(y.s.URL, y.s.Token(t, "ci", "trusted", "trusted"), "ci")
	if rep := ci.Run("build"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	ask := func(code int, what, requests string, args ...string) {
		t.Helper()
		a := y.Grayloft(append([]string{"request", "build", "--watch", "--branch", "main"}, args...)...)
		if a.Code != code || !strings.Contains(a.Out, what) {
			t.Errorf("%v: exit %d\n%s%s", args, a.Code, a.Out, a.Err)
		}
		if a := y.Grayloft("requests", "--limit", "1"); !strings.Contains(a.Out, requests) {
			t.Errorf("%s", a.Out)
		}
	}
	change := func(text string) {
		t.Helper()
		y.Append("lib/in", text)
		y.Commit(text)
		y.Git("push", "-q", "origin", "HEAD:main")
	}
	ask(0, "Nothing to do", "build --since last-good", "--since", "last-good")
	change("clear\n")
	ask(0, "ran       build@lib", "build --since last-good", "--since", "last-good")
	ask(0, "Nothing to do", "build --pick failed", "--pick", "failed")
	change("fog\n")
	ask(1, "failed    build@lib", "build --since last-good", "--since", "last-good")
	ask(1, "failed    build@lib", "build --pick 'failed and lib'", "--pick", "failed and lib")
}

func TestAFailedRequestFailsWithItsLog(t *testing.T) {
	y := newCrew(t, 0, lib("echo why it fails; exit 3"))
	y.runner("north")
	a := y.Grayloft("request", "build", "--branch", "main", "--watch")
	if a.Code != 1 || !strings.Contains(a.Out, "why it fails") || !strings.Contains(a.Err, "Request 1 failed on north.") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	if a := y.Grayloft("requests"); !strings.Contains(a.Out, "failed") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
}

func TestAPreviewRunsNothing(t *testing.T) {
	y := newCrew(t, 0, lib("mkdir -p out && cat in > out/out"))
	y.runner("north")
	a := y.Grayloft("request", "build", "--preview", "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "1 of 1 task would run") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	// The runner's checkout is new; what the plan compares with is what the service has.
	if rep := y.Run("build"); !rep.OK {
		t.Fatal(rep.Totals)
	}
	y.Append("lib/in", "more\n")
	if a := y.Grayloft("request", "build", "--preview", "--watch"); a.Code != 0 || !strings.Contains(a.Out, "a file it reads changed") ||
		!strings.Contains(a.Out, "compared with run") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	if a := y.Grayloft("requests", "1", "--plan"); a.Code != 0 || !strings.Contains(a.Out, `"build@lib"`) ||
		!strings.Contains(a.Out, `"files": 1`) || !strings.Contains(a.Out, `"lib/in"`) {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
}

// waits tells that it began, and goes on when it may.
func waits(dir string) string {
	return "touch " + dir + "/begun; while ! test -e " + dir + "/go-on; do sleep 0.05; done; mkdir -p out && cat in > out/out"
}

// open lets jobs write to a directory outside of their own, for tests that watch them.
func open(t *testing.T) (dir string, flags []string) {
	dir = t.TempDir()
	return dir, []string{"--unconfined"}
}

func TestARequestOutlivesTheRunnerThatIsKilled(t *testing.T) {
	dir, flags := open(t)
	y := newCrew(t, 2*time.Second, lib(waits(dir)))
	first := y.runner("first", flags...)
	id := y.request("build")
	y.await("the task began", exists(dir+"/begun"))
	if err := first.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(dir + "/begun"); err != nil {
		t.Fatal(err)
	}
	second := y.runner("second", flags...)
	y.await("the task began again", exists(dir+"/begun"))
	touch(t, dir+"/go-on")
	a := y.Grayloft("requests", id, "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "runner first: it does not report any more; another runner starts again") ||
		!strings.Contains(a.Err, "passed on second") {
		t.Errorf("exit %d: %s%s\n%s", a.Code, a.Out, a.Err, second.out.String())
	}
	y.await("the processes of the killed runner ended", func() bool { return len(processesIn(t, first.dir)) == 0 })
	// A runner that starts in its place removes what it left.
	third := y.runner("first", append(flags, "--max-jobs", "1")...)
	if left, _ := os.ReadDir(filepath.Join(third.dir, "jobs")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}

// processesIn returns the processes that work in a directory.
func processesIn(t *testing.T, dir string) (out []string) {
	t.Helper()
	list, err := filepath.Glob("/proc/[0-9]*/cwd")
	if err != nil {
		t.Fatal(err)
	}
	for _, link := range list {
		if at, err := os.Readlink(link); err == nil && strings.HasPrefix(at, dir+"/") {
			text, _ := os.ReadFile(filepath.Join(filepath.Dir(link), "cmdline"))
			out = append(out, strings.ReplaceAll(string(text), "\x00", " "))
		}
	}
	return out
}

func TestCancellingEndsTheProcesses(t *testing.T) {
	dir, flags := open(t)
	// It ignores what asks it to end, and leaves processes behind in sessions of their own.
	y := newCrew(t, 0, lib("trap '' TERM; (setsid sh -c 'trap \"\" TERM; sleep 1000' &) ; "+waits(dir)))
	r := y.runner("north", flags...)
	id := y.request("build")
	y.await("the task began", exists(dir+"/begun"))
	began := time.Now()
	if a := y.Grayloft("requests", id, "--cancel"); a.Code != 0 {
		t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	a := y.Grayloft("requests", id, "--watch")
	if a.Code != 130 || !strings.Contains(a.Err, "was cancelled by kari") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("it took %s", took)
	}
	y.await("all processes ended", func() bool { return len(processesIn(t, r.dir)) == 0 })
}

func TestARunnerFinishesItsJobsBeforeItEnds(t *testing.T) {
	dir, flags := open(t)
	y := newCrew(t, 0, lib(waits(dir)))
	r := y.runner("north", flags...)
	id := y.request("build")
	y.await("the task began", exists(dir+"/begun"))
	_ = r.Process.Signal(syscall.SIGTERM)
	y.await("it takes no more", func() bool { return strings.Contains(r.out.String(), "takes no more jobs; 1 to finish") })
	other := y.request("build", "--no-reuse") // waits for another runner
	touch(t, dir+"/go-on")
	if err := <-r.ended; err != nil {
		t.Errorf("%v\n%s", err, r.out.String())
	}
	if a := y.Grayloft("requests", id, "--watch"); a.Code != 0 {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	if a := y.Grayloft("requests", "--open"); !strings.Contains(a.Out, other+" ") || !strings.Contains(a.Out, "queued") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
}

func TestASecondSignalGivesJobsBack(t *testing.T) {
	dir, flags := open(t)
	y := newCrew(t, 0, lib(waits(dir)))
	r := y.runner("north", flags...)
	id := y.request("build")
	y.await("the task began", exists(dir+"/begun"))
	_ = r.Process.Signal(syscall.SIGTERM)
	y.await("it takes no more", func() bool { return strings.Contains(r.out.String(), "takes no more jobs") })
	_ = r.Process.Signal(syscall.SIGTERM)
	if err := <-r.ended; err != nil {
		t.Errorf("%v\n%s", err, r.out.String())
	}
	touch(t, dir+"/go-on")
	one := y.runner("one", append(flags, "--max-jobs", "1")...)
	a := y.Grayloft("requests", id, "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "runner north: gave the job back, because it ends; another runner starts again") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	if err := <-one.ended; err != nil { // after its one job
		t.Errorf("%v\n%s", err, one.out.String())
	}
}

func TestAJobMayTakeSoMuchTimeAndDisk(t *testing.T) {
	y := newCrew(
		t,
		0,
		lib(`case $(cat in) in time*) sleep 60;; disk*) mkdir -p out; head -c 40000000 /dev/zero > out/big; sleep 60;; esac`),
	)
	y.runner("north", "--job-time", "3s", "--job-disk", "20MB")
	for what, want := range map[string]string{"disk": "it wrote more than the 19 MB that this runner allows", "time": "it took longer than the 3s"} {
		y.Write("lib/in", what+"\n")
		flags := []string{"request", "build", "--watch"}
		a := y.Grayloft(flags...)
		if a.Code != 1 || !strings.Contains(a.Err, "it ") || what == "time" && !strings.Contains(a.Err, want) {
			t.Errorf("%s: exit %d: %s%s", what, a.Code, a.Out, a.Err)
		}
	}
}

// A job gets at nothing but its own. Its own token, which ends with it, is among that.
func TestAHostileJobGetsNothingOfItsRunner(t *testing.T) {
	y := newCrew(t, 0, map[string]string{
		".gitignore": "out/\n",
		"lib/loft.toml": `[task.attack]
run = "sh attack.sh 2>/dev/null"
reads = ["attack.sh"]
writes = ["out/**"]
probes = []
reuse = "never"
`,
		"lib/attack.sh": `
mkdir -p out
parent=$PPID
for p in /proc/[0-9]*; do
  tr '\0' '\n' < $p/environ 2>/dev/null | grep -a '^GRAYLOFT_TOKEN=loft-'
  case $(tr '\0' ' ' < $p/cmdline 2>/dev/null) in *" runner --from "*)
    ls -l $p/fd >/dev/null 2>&1 && echo "FDS of the runner"
    head -c 1 $p/mem >/dev/null 2>&1 && echo "MEMORY of the runner"
    kill -0 ${p#/proc/} 2>/dev/null && echo "SIGNALS to the runner";;
  esac
done
top=$(cd ../../../.. && pwd)
for f in "$top"/mirror/config "$top"/lock "$top"/jobs/other/tree/secret "$top"/for/other/cache/x; do
  cat "$f" >/dev/null 2>&1 && echo "READ $f"
  echo x >> "$f" 2>/dev/null && echo "WROTE $f"
done
ls "$top"/jobs >/dev/null 2>&1 && echo "LISTED the jobs"
ls "$top"/for >/dev/null 2>&1 && echo "LISTED the caches"
mkdir "$top"/jobs/next 2>/dev/null && echo "MADE the next job"
echo planted > "$top"/mirror/hooks-planted 2>/dev/null && echo "PLANTED in the mirror"
git branch -f planted HEAD 2>/dev/null
(setsid sh -c 'while :; do sleep 0.2; done' &)
echo done
`,
	})
	r := y.runner("north")
	for _, dir := range []string{"jobs/other/tree", "for/other/cache"} {
		if err := os.MkdirAll(filepath.Join(r.dir, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(r.dir, "jobs/other/tree/secret"), []byte("s"), 0o644); err != nil {
		t.Fatal(err)
	}
	a := y.Grayloft("request", "attack", "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "done") {
		t.Fatalf("exit %d: %s%s\n%s", a.Code, a.Out, a.Err, r.out.String())
	}
	for _, word := range []string{r.token, "FDS", "MEMORY", "SIGNALS", "READ", "WROTE", "LISTED", "MADE", "PLANTED"} {
		if strings.Contains(a.Out, word) {
			t.Errorf("it got at something:\n%s", a.Out)
			break
		}
	}
	if out, err := exec.Command("git", "-C", filepath.Join(r.dir, "mirror"), "for-each-ref", "refs/heads/planted").Output(); err != nil ||
		len(out) > 0 {
		t.Errorf("%s%v", out, err)
	}
	y.await("what it left behind ended", func() bool { return len(processesIn(t, r.dir)) == 0 })
}

// On a runner of root, a job is that user as well, but reaches nothing that is root's.
func TestAJobOfRootReachesNothingOfRoot(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("this is about root")
	}
	victim := filepath.Join(t.TempDir(), "victim")
	if err := os.WriteFile(victim, []byte("v"), 0o600); err != nil {
		t.Fatal(err)
	}
	before, err := os.Stat("/usr/bin/env")
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("unix", filepath.Join(filepath.Dir(victim), "socket"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	y := newCrew(t, 0, map[string]string{
		".gitignore": "out/\n",
		"lib/loft.toml": `[task.attack]
run = "sh attack.sh 2>/dev/null"
reads = ["attack.sh"]
writes = ["out/**"]
probes = []
reuse = "never"
`,
		"lib/attack.sh": `mkdir -p out
for f in ` + victim + ` /usr/bin/env /etc/passwd; do
  chmod 0777 $f && echo "CHMOD $f"
  touch -d 2001-01-01 $f && echo "TOUCHED $f"
  chown 1:1 $f && echo "CHOWNED $f"
done
ls ` + l.Addr().String() + ` && echo "SOCKET"
(setsid sh -c 'while :; do sleep 0.2; done' &)
echo done
`,
	})
	r := y.runner("north")
	a := y.Grayloft("request", "attack", "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "done") {
		t.Fatalf("exit %d: %s%s\n%s", a.Code, a.Out, a.Err, r.out.String())
	}
	for _, word := range []string{"CHMOD", "TOUCHED", "CHOWNED", "SOCKET"} {
		if strings.Contains(a.Out, word) {
			t.Errorf("it got at something:\n%s", a.Out)
			break
		}
	}
	if info, err := os.Stat(victim); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	if after, err := os.Stat("/usr/bin/env"); err != nil || !after.ModTime().Equal(before.ModTime()) || after.Mode() != before.Mode() {
		t.Errorf("%v %v", after, err)
	}
	y.await("what it left behind ended", func() bool { return len(processesIn(t, r.dir)) == 0 })
}

// someoneElse is a person without rights.
func someoneElse(t *testing.T) *syscall.Credential {
	u, err := user.Lookup("nobody")
	if err != nil {
		t.Skip(err)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	gid, gerr := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil || gerr != nil {
		t.Fatal(err, gerr)
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

// On a runner of an ordinary user, a sealed task is as sealed as elsewhere, so its result is
// shared; and the job sees nothing but its own.
func TestASealedTaskOnARunnerIsShared(t *testing.T) {
	y := newCrew(t, 0, lib("mkdir -p out; cat in > out/out"))
	y.Append("lib/loft.toml", "isolation = \"sealed\"\n")
	as := func(c *exec.Cmd) {}
	if os.Getuid() == 0 {
		as = func(c *exec.Cmd) {
			if err := os.Chmod(filepath.Dir(y.dir), 0o755); err != nil {
				t.Fatal(err)
			}
			if out, err := exec.Command("chown", "-R", "nobody", y.dir).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			c.SysProcAttr = &syscall.SysProcAttr{Credential: someoneElse(t)}
			c.Env = append(c.Env, "HOME="+y.dir)
		}
	}
	r := y.runnerAs(as, "north")
	a := y.Grayloft("request", "build", "--watch")
	if a.Code != 0 {
		t.Fatalf("exit %d: %s%s\n%s", a.Code, a.Out, a.Err, r.out.String())
	}
	if strings.Contains(a.Out, "warning") {
		t.Skipf("this machine cannot seal as an ordinary user: %s", a.Out)
	}
	if rep := y.Run("build"); rep.Of("build@lib").Outcome != "fetched" {
		t.Errorf("%+v\n%s", rep.Tasks, a.Out)
	}
}

func TestAProtectedRunnerWritesToTheTrustedShelf(t *testing.T) {
	y := newCrew(t, 0, lib("mkdir -p out && cat in > out/out"))
	lead := remote.New(y.s.URL, y.s.Repo, y.token(records.Token{Name: "lead", MayManage: true}), nil)
	if err := lead.Protect(t.Context(), fleet.Protection{Refs: []string{"main"}, Pools: []string{"deploy"}}); err != nil {
		t.Fatal(err)
	}
	r := y.runner("guarded", "--pool", "deploy")
	if !strings.Contains(r.out.String(), "protected jobs only") {
		t.Error(r.out.String())
	}
	if a := y.Grayloft("request", "build", "--pool", "deploy", "--watch"); a.Code != 0 ||
		!strings.Contains(a.Err, "its results go to trusted") {
		t.Fatalf("exit %d: %s%s\n%s", a.Code, a.Out, a.Err, r.out.String())
	}
	// Whoever reads the trusted shelf has the result.
	other := y.Clone().Login(y.s.URL, y.token(records.Token{Name: "olve", WritesTo: "person/olve", ReadsFrom: []string{"trusted"}}), "home")
	if rep := other.Run("build"); rep.Of("build@lib").Outcome != "fetched" {
		t.Errorf("%+v", rep.Tasks)
	}
	// A commit that is on no protected branch is refused, whatever its branch is said to be.
	y.Git("checkout", "-q", "-b", "quay")
	y.Append("lib/in", "unreviewed\n")
	y.Commit("unreviewed")
	y.Git("push", "-q", "origin", "quay")
	commit := y.Git("rev-parse", "HEAD")
	for _, flags := range [][]string{{"--branch", "quay"}, {"--commit", commit}} {
		a := y.Grayloft(append([]string{"request", "build", "--pool", "deploy", "--watch"}, flags...)...)
		if a.Code != 1 || !strings.Contains(a.Err, "is on no protected branch (main)") {
			t.Errorf("%v: exit %d: %s%s", flags, a.Code, a.Out, a.Err)
		}
	}
	y.Append("lib/in", "and changed\n")
	if a := y.Grayloft("request", "build", "--pool", "deploy"); a.Code != 2 || !strings.Contains(a.Err, "without local changes") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
}

func TestMistakesWithRequestsAreExplained(t *testing.T) {
	y := newCrew(t, 0, lib("true"))
	y.Append("lib/in", "x\n")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"request", "build"}, "no runner serves this repository now: start one with grayloft runner"},
		{[]string{"request"}, "which tasks? The repository has build"},
		{[]string{"request", "biuld", "--pool", "linux"}, `did you mean "build"?`},
		{[]string{"request", "build", "--priority", "urgent"}, "high, normal or low"},
		{[]string{"request", "build", "--pool", "Linux"}, "is not the name of a pool"},
		{[]string{"request", "--again"}, "no earlier request of kari"},
		{[]string{"requests", "x"}, "is not the number of a request"},
		{[]string{"requests", "99"}, "request 99"},
		{[]string{"requests", "--cancel"}, "which request?"},
		{[]string{"runner", "--pool", "linux"}, "a runner needs a pool and a repository"},
		{[]string{"runner", "--pool", "linux", "--from", "x", "--job-disk", "much"}, "--job-disk \"much\" is not a size"},
	} {
		if a := y.Grayloft(c.args...); a.Code != 2 || !strings.Contains(a.Err, c.want) {
			t.Errorf("%v: exit %d: %s%s", c.args, a.Code, a.Out, a.Err)
		}
	}
	// A runner without the right, and one without a repository.
	for _, c := range []struct {
		token records.Token
		from  string
		want  string
	}{
		{records.Token{Name: "a", MayView: true}, y.origin, "--serve"},
		{records.Token{Name: "b", Serves: []string{"mac"}}, y.origin, `the token "b" is not for the pool "linux"`},
		{records.Token{Name: "c", Serves: []string{"linux"}}, y.dir + "/nowhere.git", "fetching"},
	} {
		at := &trial.Repo{
			T:   t,
			Dir: y.dir,
			Bin: shipped(),
			Env: []string{"GRAYLOFT_SERVICE=" + y.s.URL, "GRAYLOFT_TOKEN=" + y.token(c.token)},
		}
		if a := at.Grayloft("runner", "--pool", "linux", "--from", c.from, "--dir", t.TempDir()); a.Code != 3 ||
			!strings.Contains(a.Err, c.want) {
			t.Errorf("%s: exit %d: %s%s", c.token.Name, a.Code, a.Out, a.Err)
		}
	}
}

// A request that is spread is one run of several runners, and each line says whose it is.
func TestASpreadRequestIsOneRunOfSeveralRunners(t *testing.T) {
	dir, flags := open(t)
	files := lib("echo x >> " + dir + "/runs; sleep 0.5; mkdir -p out && cat in > out/out")
	y := newCrew(t, 0, files)
	first, second := y.runner("first", flags...), y.runner("second", flags...)
	a := y.Grayloft("request", "build", "--spread", "2", "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "\n1 ") && !strings.HasPrefix(a.Out, "1 ") || !strings.Contains(a.Out, "2 build: 1 task") {
		t.Fatalf("exit %d: %s%s\n%s%s", a.Code, a.Out, a.Err, first.out.String(), second.out.String())
	}
	if n := count(t, dir+"/runs"); n != 1 {
		t.Errorf("the task ran %d times:\n%s", n, a.Out)
	}
}
