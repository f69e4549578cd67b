//go:build trials

package trials

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/service/cluster"
	"grayloft.example/grayloft/internal/trial"
)

// yard is a repository whose one task takes a moment, a service, and whoever requests runs.
type yard struct {
	t      *testing.T
	dir    string
	origin string
	commit string
	url    string
	db     string
	person *remote.Client
}

// newYard makes a yard for a service that runs. The task does what run says.
func newYard(t *testing.T, d *daemon, db, run string) *yard {
	t.Helper()
	r := trial.New(t, map[string]string{
		"grayloft.toml": strings.ReplaceAll(declared, `"lib", "app"`, `"lib"`), "lib/in": "in\n", ".gitignore": "out/\n",
		"lib/loft.toml": "[task.work]\nrun = '''" + run + "'''\nreads = [\"in\"]\nwrites = []\nprobes = []\nreuse = \"never\"\n",
	})
	y := &yard{t: t, dir: t.TempDir(), url: d.url, db: db, commit: r.Git("rev-parse", "HEAD")}
	y.origin = filepath.Join(y.dir, "origin.git")
	r.Git("clone", "-q", "--bare", ".", y.origin)
	y.person = remote.New(d.url, trial.Repository(t), y.token("kari", "--writes-to", "person/kari", "--request"), nil)
	return y
}

func (y *yard) token(name string, rights ...string) string {
	y.t.Helper()
	out, err := exec.Command(programs.service, append([]string{"token", "new", "--database", y.db, "--repo", trial.Repository(y.t),
		"--name", name}, rights...)...).Output()
	if err != nil {
		y.t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// machine is a runner that can be started again.
type machine struct {
	y     *yard
	name  string
	token string
	url   string
	flags []string
	cmd   *exec.Cmd
	log   *os.File
}

func (y *yard) machine(name string, flags ...string) *machine {
	y.t.Helper()
	log, err := os.Create(filepath.Join(y.dir, name+".log"))
	if err != nil {
		y.t.Fatal(err)
	}
	m := &machine{y: y, name: name, token: y.token(name, "--serve", "linux"), url: y.url, flags: flags, log: log}
	y.t.Cleanup(m.kill)
	return m
}

func (m *machine) dir() string { return filepath.Join(m.y.dir, m.name) }

func (m *machine) start() {
	m.y.t.Helper()
	m.cmd = exec.Command(programs.client, append([]string{"runner", "--pool", "linux", "--from", m.y.origin, "--dir", m.dir(),
		"--name", m.name, "--slots", "1", "--unconfined"}, m.flags...)...)
	m.cmd.Env = append(os.Environ(), "GRAYLOFT_SERVICE="+m.url, "GRAYLOFT_TOKEN="+m.token)
	m.cmd.Stdout, m.cmd.Stderr = m.log, m.log
	if err := m.cmd.Start(); err != nil {
		m.y.t.Fatal(err)
	}
}

func (m *machine) kill() {
	if m.cmd != nil {
		_ = m.cmd.Process.Kill()
		_ = m.cmd.Wait()
		m.cmd = nil
	}
}

func (m *machine) said() string {
	text, _ := os.ReadFile(m.log.Name())
	return string(text)
}

// request makes so many requests, and returns their numbers.
func (y *yard) request(n int) (ids []int64) {
	y.t.Helper()
	for range n {
		made, err := y.person.Request(context.Background(), protocol.Ask{Pool: "linux", Tasks: []string{"work"}, Branch: "main"})
		if err != nil {
			y.t.Fatal(err)
		}
		ids = append(ids, made.ID)
	}
	return ids
}

// settled waits until all requests have ended, and returns them.
func (y *yard) settled(ids []int64, limit time.Duration) (out []protocol.Request) {
	y.t.Helper()
	end := time.Now().Add(limit)
	for _, id := range ids {
		for {
			q, err := y.person.RequestOf(context.Background(), id)
			if err == nil && q.State.HasEnded() {
				out = append(out, q)
				break
			}
			if time.Now().After(end) {
				y.t.Fatalf("request %d is stuck after %s: %+v, %v", id, limit, q, err)
			}
			<-time.After(100 * time.Millisecond)
		}
	}
	return out
}

// clean makes sure that nothing of any job is left: no process, no checkout.
func (y *yard) clean(list ...*machine) {
	y.t.Helper()
	trial.Wait(y.t, "all processes of jobs to end", func() bool {
		links, _ := filepath.Glob("/proc/[0-9]*/cwd")
		for _, link := range links {
			if at, err := os.Readlink(link); err == nil && strings.HasPrefix(at, y.dir+"/") && strings.Contains(at, "/jobs/") {
				return false
			}
		}
		return true
	})
	for _, m := range list {
		if left, _ := os.ReadDir(filepath.Join(m.dir(), "jobs")); len(left) > 0 {
			y.t.Errorf("%s has left %v", m.name, left)
		}
	}
}

// tally counts the requests by state.
func tally(list []protocol.Request) map[fleet.State]int {
	out := map[fleet.State]int{}
	for _, q := range list {
		out[q.State]++
	}
	return out
}

func TestRunnersKilledAtRandomMoments(t *testing.T) {
	db := trial.Database(t)
	y := newYard(t, serve(t, db, t.TempDir()), db, "sleep 0.4")
	machines := []*machine{y.machine("north"), y.machine("south")}
	for _, m := range machines {
		m.start()
	}
	rnd := rand.New(rand.NewPCG(31, 32))
	kills := times(100)
	ids := y.request(2 * kills / 3)
	for range kills {
		m := machines[rnd.IntN(2)]
		<-time.After(time.Duration(rnd.IntN(1500)) * time.Millisecond)
		m.kill()
		m.start()
	}
	list := y.settled(ids, 5*time.Minute)
	for _, q := range list {
		if j := q.Jobs[0]; q.State != fleet.Passed && (q.State != fleet.Lost || j.Attempt < fleet.MaxLosses) {
			t.Errorf("request %d is %s in attempt %d: %s", q.ID, q.State, j.Attempt, j.Message)
		}
	}
	y.clean(machines...)
	t.Logf("%d kills, %d requests: %v; no process and no checkout is left", kills, len(ids), tally(list))
}

func TestAServiceKilledWithOpenJobs(t *testing.T) {
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	gate := filepath.Join(t.TempDir(), "open")
	y := newYard(t, d, db, "echo run >> "+gate+".runs; while ! test -e "+gate+"; do sleep 0.1; done")
	m := y.machine("north", "--jobs", "20")
	m.start()
	ids := y.request(20)
	trial.Wait(t, "all jobs to run", func() bool {
		text, _ := os.ReadFile(gate + ".runs")
		return strings.Count(string(text), "run") == 20
	})
	n := times(5)
	for range n {
		d.kill()
		d.start()
	}
	if err := os.WriteFile(gate, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	list := y.settled(ids, 2*time.Minute)
	text, _ := os.ReadFile(gate + ".runs")
	for _, q := range list {
		if q.State != fleet.Passed || q.Jobs[0].Attempt != 1 {
			t.Errorf("request %d: %+v", q.ID, q.Jobs)
		}
	}
	if runs := strings.Count(string(text), "run"); runs != 20 {
		t.Errorf("the 20 tasks ran %d times", runs)
	}
	y.clean(m)
	t.Logf("%d kills of the service with 20 jobs open: %v, each in its first attempt", n, tally(list))
}

func TestPostgreSQLRestartedUnderRequests(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	for p := dir; p != os.TempDir(); p = filepath.Dir(p) { // PostgreSQL's own user has to get there
		if err := os.Chmod(p, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	cl, err := cluster.Start(ctx, filepath.Join(dir, "postgres"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cl.Stop() })
	if err := cl.CreateDatabase(ctx, "fleet"); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(cl.URL("fleet"))
	if err != nil {
		t.Fatal(err)
	}
	line := newLine(t, u.Host)
	u.Host = line.addr
	y := newYard(t, serve(t, u.String(), t.TempDir()), u.String(), "sleep 0.2")
	machines := []*machine{y.machine("north"), y.machine("south")}
	for _, m := range machines {
		m.start()
	}
	n := times(10)
	var ids []int64
	for range n {
		ids = append(ids, y.request(10)...)
		<-time.After(500 * time.Millisecond)
		if err := cl.Stop(); err != nil {
			t.Error(err)
		}
		line.cut()
		if cl, err = cluster.Start(ctx, filepath.Join(dir, "postgres")); err != nil {
			t.Fatal(err)
		}
		at, _ := url.Parse(cl.URL("fleet"))
		line.to.Store(at.Host)
		trial.Wait(t, "the service to come back by itself", func() bool {
			resp, err := http.Get(y.url + "/healthz")
			if err == nil {
				resp.Body.Close()
			}
			return err == nil && resp.StatusCode == http.StatusOK
		})
	}
	list := y.settled(ids, 5*time.Minute)
	if got := tally(list); got[fleet.Passed] != len(ids) {
		t.Errorf("%v", got)
	}
	y.clean(machines...)
	t.Logf("%d restarts of PostgreSQL, %d requests: %v", n, len(ids), tally(list))
}

func TestARunnerCutOffForAMinute(t *testing.T) {
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	y := newYard(t, d, db, "echo $PPID >> "+t.TempDir()+"/runs; sleep 45")
	line := newLine(t, strings.TrimPrefix(d.url, "http://"))
	away, near := y.machine("away"), y.machine("near")
	away.url = "http://" + line.addr
	away.start()
	ids := y.request(1)
	trial.Wait(t, "the job to run", func() bool { return strings.Contains(away.said(), "request 1: run work") })
	line.mode.Store("dead")
	near.start()
	began, stopped := time.Now(), time.Time{}
	for stopped.IsZero() && time.Since(began) < time.Minute {
		if strings.Contains(away.said(), "lost contact with the service") {
			stopped = time.Now()
		}
		<-time.After(100 * time.Millisecond)
	}
	if stopped.IsZero() {
		t.Fatalf("it did not see that it is cut off:\n%s", away.said())
	}
	<-time.After(time.Until(began.Add(time.Minute)))
	line.mode.Store("")
	line.cut()
	q := y.settled(ids, 3*time.Minute)[0]
	if q.State != fleet.Passed || q.Jobs[0].Runner != "near" || q.Jobs[0].Attempt != 2 {
		t.Errorf("%+v\n%s", q.Jobs, away.said())
	}
	// It is there again for the next request.
	near.kill()
	next := y.settled(y.request(1), 3*time.Minute)[0]
	if next.State != fleet.Passed || next.Jobs[0].Runner != "away" {
		t.Errorf("%+v\n%s", next.Jobs, away.said())
	}
	y.clean(away)
	t.Logf("cut off for a minute: it stopped its job after %s, another runner passed it in attempt 2, and it works again",
		stopped.Sub(began).Round(time.Second))
}

func TestAFullDiskOfARunner(t *testing.T) {
	db := trial.Database(t)
	y := newYard(t, serve(t, db, t.TempDir()), db, "true")
	full := y.machine("full")
	disk := smallDisk(t, 64<<20)
	if err := os.Mkdir(full.dir(), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount(disk, full.dir(), "", syscall.MS_BIND, ""); err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(full.dir(), syscall.MNT_DETACH) })
	full.start()
	ids := y.request(3)
	trial.Wait(t, "the runner to see that its disk is full", func() bool { return strings.Contains(full.said(), "takes no jobs: only") })
	near := y.machine("near")
	near.start()
	list := y.settled(ids, time.Minute)
	for _, q := range list {
		if q.State != fleet.Passed || q.Jobs[0].Runner != "near" {
			t.Errorf("%+v", q.Jobs)
		}
	}
	t.Logf("a runner with a full disk took none of %d jobs; another one did: %v", len(ids), tally(list))
}

func TestAThousandRequestsQueuedAtOnce(t *testing.T) {
	db := trial.Database(t)
	y := newYard(t, serve(t, db, t.TempDir()), db, "true")
	n := times(1000)
	ids := y.request(n)
	machines := []*machine{y.machine("north", "--jobs", "2"), y.machine("south", "--jobs", "2")}
	began := time.Now()
	for _, m := range machines {
		m.start()
	}
	list := y.settled(ids, 40*time.Minute)
	took := time.Since(began)
	for _, q := range list {
		if q.State != fleet.Passed || q.Jobs[0].Attempt != 1 {
			t.Errorf("%d: %+v", q.ID, q.Jobs)
		}
	}
	y.clean(machines...)
	t.Logf("%d requests queued at once, %s: %v, %s", n, took.Round(time.Second), tally(list),
		fmt.Sprintf("%d ms each", took.Milliseconds()/int64(n)))
}
