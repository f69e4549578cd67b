package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// joiners are clones of one repository whose tasks count their runs in a directory outside.
type joiners struct {
	t     *testing.T
	first *trial.Repo
	list  []*trial.Repo
	runs  string
}

// task declares a task that takes a moment and counts its runs.
func (j *joiners) task(name, run string, more ...string) string {
	return fmt.Sprintf("[task.%s]\nrun = '''echo x >> %s/%s; %s'''\nprobes = []\n%s\n", name, j.runs, name, run, strings.Join(more, "\n"))
}

// reads are what a task declares that makes one file.
func makes(name string, more ...string) []string {
	return append([]string{`reads = ["in"]`, `writes = ["out/` + name + `"]`}, more...)
}

// newJoiners makes so many clones, of the tasks that declare returns.
func newJoiners(t *testing.T, s *trial.Service, n int, declare func(j *joiners) string) *joiners {
	t.Helper()
	j := &joiners{t: t, runs: t.TempDir()}
	j.first = trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"lib\"]\n", ".gitignore": "out/\n", "lib/in": "in\n",
		"lib/loft.toml": declare(j),
	})
	token := s.Token(t, "ci", "trusted", "trusted")
	for i := range n {
		c := j.first.Clone().Login(s.URL, token, fmt.Sprint("ci-", i+1))
		j.list = append(j.list, c)
	}
	return j
}

// run runs tasks on all clones at once, and returns what each said and how it exited.
func (j *joiners) run(args ...string) (said []string, codes []int) {
	j.t.Helper()
	var waits []func() error
	var outs []*lockedBuffer
	for _, c := range j.list {
		out, wait, _ := background(j.t, c, append([]string{"run", "--join", "night-7"}, args...)...)
		outs, waits = append(outs, out), append(waits, wait)
	}
	for i, wait := range waits {
		codes = append(codes, exitCode(wait()))
		said = append(said, outs[i].String())
	}
	return said, codes
}

func exitCode(err error) int {
	if coded, ok := err.(interface{ ExitCode() int }); ok {
		return coded.ExitCode()
	}
	return 0
}

// ran returns how often a task ran, on all clones together.
func (j *joiners) ran(task string) int {
	text, _ := os.ReadFile(filepath.Join(j.runs, task))
	return strings.Count(string(text), "x")
}

func (j *joiners) want(codes []int, code int, said []string, runs map[string]int) {
	j.t.Helper()
	for i, got := range codes {
		if got != code {
			j.t.Errorf("member %d: exit %d\n%s", i+1, got, said[i])
		}
	}
	for task, n := range runs {
		if got := j.ran(task); got != n {
			j.t.Errorf("%s ran %d times, not %d\n%s", task, got, n, strings.Join(said, "\n"))
		}
	}
}

func TestMembersOfAJoinDivideTheTasks(t *testing.T) {
	t.Parallel()
	names := []string{"a", "b", "c", "d", "e", "f"}
	s := trial.Serve(t)
	j := newJoiners(t, s, 3, func(j *joiners) string {
		text := ""
		for _, name := range names {
			text += j.task(name, "sleep 0.4; mkdir -p out && cp in out/"+name, makes(name)...)
		}
		return text + j.task("sum", "cat out/* > out/sum", `reads = []`, `writes = ["out/sum"]`, `after = ["a", "b", "c", "d", "e", "f"]`) +
			j.task("publish", "true", `reads = []`, `writes = []`, `reuse = "never"`, `after = ["sum"]`)
	})
	said, codes := j.run("publish", "sum", "--jobs", "1")
	runs := map[string]int{"sum": 1, "publish": 1}
	for _, name := range names {
		runs[name] = 1
	}
	j.want(codes, 0, said, runs)
	busy := 0
	for i, c := range j.list {
		if c.Read("lib/out/sum") != strings.Repeat("in\n", 6) {
			t.Errorf("member %d has another result", i+1)
		}
		if !strings.Contains(said[i], "Ran none") {
			busy++
		}
	}
	if busy < 2 {
		t.Errorf("one member did everything:\n%s", strings.Join(said, "\n"))
	}
	// The list of runs has it once, and its page all members.
	repository, err := s.DB.RepositoryID(t.Context(), s.Repo)
	if err != nil {
		t.Fatal(err)
	}
	list, total, err := s.DB.Runs(t.Context(), repository, records.RunFilter{}, records.RunOrder{Limit: 10})
	if err != nil || total != 1 || len(list) != 1 || list[0].Join != "night-7" {
		t.Fatalf("%d runs: %+v, %v", total, list, err)
	}
	if d, err := s.DB.Run(t.Context(), repository, list[0].ID); err != nil || len(d.Members) != 3 || d.Members[0].ID != d.ID {
		t.Errorf("%+v, %v", d.Members, err)
	}
}

func TestAFailureCountsForAllMembersAndIsNotRetried(t *testing.T) {
	t.Parallel()
	j := newJoiners(t, trial.Serve(t), 3, func(j *joiners) string {
		return j.task("good", "mkdir -p out && cp in out/good", makes("good")...) +
			j.task("bad", "sleep 0.5; exit 3", makes("bad")...) +
			j.task("after", "true", makes("after", `after = ["bad"]`)...)
	})
	said, codes := j.run("good", "after", "--keep-going")
	j.want(codes, 1, said, map[string]int{"good": 1, "bad": 1, "after": 0})
	elsewhere := 0
	for _, text := range said {
		if strings.Contains(text, "exit 3 (on ci-") {
			elsewhere++
		}
		if !strings.Contains(text, "failed") || !strings.Contains(text, "blocks 1 more") {
			t.Errorf("%s", text)
		}
	}
	if elsewhere != 2 {
		t.Errorf("%d members say where it failed:\n%s", elsewhere, strings.Join(said, "\n"))
	}
}

func TestWhatCannotBeSharedRunsOnEachMember(t *testing.T) {
	t.Parallel()
	j := newJoiners(t, trial.Serve(t), 2, func(j *joiners) string {
		return j.task("own", "sleep 0.3; mkdir -p out && cp in out/own", makes("own", `reuse = "local"`)...)
	})
	said, codes := j.run("own")
	j.want(codes, 0, said, map[string]int{"own": 2})
}

func TestMembersWithOtherInputsAreTold(t *testing.T) {
	t.Parallel()
	j := newJoiners(t, trial.Serve(t), 2, func(j *joiners) string {
		return j.task("a", "sleep 1; mkdir -p out && cp in out/a", makes("a", `env = ["BERTH"]`)...)
	})
	for i, c := range j.list {
		c.Env = append(c.Env, fmt.Sprint("BERTH=", i))
	}
	said, codes := j.run("a")
	told := 0
	for i, text := range said {
		if codes[i] == 1 && strings.Contains(text, "its inputs are not those on ci-") && strings.Contains(text, "environment BERTH") {
			told++
		}
	}
	if told != 1 || j.ran("a") != 1 {
		t.Errorf("%v, ran %d times:\n%s", codes, j.ran("a"), strings.Join(said, "\n"))
	}
}

func TestAJoinOfDifferentPlansIsRefused(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	j := newJoiners(t, s, 1, func(j *joiners) string {
		return j.task("a", "true", makes("a")...) + j.task("once", "true", makes("once", `reuse = "never"`)...)
	})
	c := j.list[0]
	if a := c.Grayloft("run", "a", "--join", "night-7"); a.Code != 0 {
		t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	other := j.first.Clone().Login(s.URL, s.Token(t, "kari", "person/kari", "person/kari", "trusted"), "home")
	if a := other.Grayloft("run", "a", "--join", "night-7"); a.Code != 0 || !strings.Contains(a.Err, "there is a join night-7 on the shelf trusted as well") {
		t.Errorf("a token of another shelf: exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	for _, x := range []struct {
		r    *trial.Repo
		args []string
		want string
	}{
		{c, []string{"a", "--join", "night-7", "--", "fast"}, "have another plan"},
		{c, []string{"once", "--join", "x"}, `once@lib has reuse = "never" and writes files`},
		{c, []string{"a", "--join", "x", "--part", "1/2"}, "--join and --part both divide"},
		{c, []string{"a", "--join", "x", "--no-reuse"}, "cannot be combined with --no-reuse"},
		{c, []string{"a", "--join", "x", "--offline"}, "--join needs a service"},
		{c, []string{"a", "--join", "a b"}, "letters, digits"},
	} {
		if a := x.r.Grayloft(append([]string{"run"}, x.args...)...); a.Code != 2 || !strings.Contains(a.Err, x.want) {
			t.Errorf("%v: exit %d: %s%s", x.args, a.Code, a.Out, a.Err)
		}
	}
}

func TestAMemberThatIsKilledIsReplaced(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(c *service.Config) { c.RunnerLease = 12 * time.Second })
	gate := t.TempDir()
	j := newJoiners(t, s, 2, func(j *joiners) string {
		return j.task("slow", "touch "+gate+"/begun; while ! test -e "+gate+"/go-on; do sleep 0.05; done; mkdir -p out && cp in out/slow",
			makes("slow")...) +
			j.task("once", "touch "+gate+"/once; sleep 60", `reads = []`, `writes = []`, `reuse = "never"`)
	})
	_, _, kill := background(t, j.list[0], "run", "slow", "once", "--join", "n", "--jobs", "2", "--keep-going")
	trial.Wait(t, "both tasks run", func() bool { return exists(gate+"/begun")() && exists(gate+"/once")() })
	out, wait, _ := background(t, j.list[1], "run", "slow", "once", "--join", "n", "--jobs", "2", "--keep-going")
	trial.Wait(t, "they are waited for", func() bool { return strings.Count(out.String(), "running on ci-1") == 2 })
	kill()
	touch(t, gate+"/go-on")
	code := exitCode(wait())
	if code != 1 || j.ran("slow") != 2 || j.ran("once") != 1 || !strings.Contains(out.String(), "is lost; it must not run twice") {
		t.Errorf("exit %d, slow ran %d times, once %d times:\n%s", code, j.ran("slow"), j.ran("once"), out)
	}
}

func TestAMemberGoesOnAloneWithoutAService(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(*service.Config) {})
	gate := t.TempDir()
	j := newJoiners(t, s, 1, func(j *joiners) string {
		return j.task("first", "touch "+gate+"/begun; while ! test -e "+gate+"/go-on; do sleep 0.05; done; mkdir -p out && cp in out/first",
			makes("first")...) + j.task("second", "mkdir -p out && cp in out/second", makes("second", `after = ["first"]`)...)
	})
	out, wait, _ := background(t, j.list[0], "run", "second", "--join", "n")
	trial.Wait(t, "the first task runs", exists(gate+"/begun"))
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	touch(t, gate+"/go-on")
	if code := exitCode(wait()); code != 0 || !strings.Contains(out.String(), "this machine goes on alone") || j.ran("second") != 1 {
		t.Errorf("exit %d:\n%s", code, out)
	}
}
