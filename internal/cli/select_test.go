package cli_test

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

func reach(t *testing.T, r *trial.Repo, args ...string) []string {
	t.Helper()
	a := r.Grayloft(append([]string{"reach", "--format", "json"}, args...)...)
	var out struct{ Projects, Tasks []string }
	if err := json.Unmarshal([]byte(a.Out), &out); err != nil {
		t.Fatalf("reach %v: exit %d\n%s%s", args, a.Code, a.Out, a.Err)
	}
	if !slices.IsSorted(out.Tasks) || !slices.IsSorted(out.Projects) {
		t.Errorf("not sorted: %v", out)
	}
	return out.Tasks
}

func TestReachOfFiles(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	for file, want := range map[string][]string{
		"lib/schema":    {"build@app", "generate@lib", "test@app", "test@lib"},
		"lib/test/t":    {"test@lib"},
		"lib/src/a":     {"build@app", "test@app", "test@lib"},
		"lib/src/gone":  {"build@app", "test@app", "test@lib"},
		"app/unread":    {},
		"lib/gen/types": {},
	} {
		if got := reach(t, r, file); !slices.Equal(got, want) {
			t.Errorf("%s reaches %v, want %v", file, got, want)
		}
	}
	if a := r.GrayloftIn("lib", "reach", "--format", "json", "test/t"); !strings.Contains(a.Out, "test@lib") {
		t.Errorf("a path from where the person is: %s%s", a.Out, a.Err)
	}
	if a := r.Grayloft("reach", "/etc/hostname"); a.Code != 2 || !strings.Contains(a.Err, "outside the repository") {
		t.Errorf("a file elsewhere: exit %d, %s", a.Code, a.Err)
	}
}

func TestReachOfChanges(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	if got := reach(t, r); len(got) != 0 {
		t.Errorf("nothing changed, and it reaches %v", got)
	}
	r.Git("checkout", "-q", "-b", "work")
	r.Append("lib/test/t", "more\n") // unstaged
	if got := reach(t, r); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("unstaged: %v", got)
	}
	r.Commit("committed")
	r.Write("app/ünlikely \"name\"\nx", "new\n") // untracked
	r.Git("mv", "lib/src/a", "lib/other")        // staged: both sides count
	if got := reach(t, r); !slices.Equal(got, []string{"build@app", "test@app", "test@lib"}) {
		t.Errorf("committed, staged and untracked: %v", got)
	}
	r.Git("reset", "-q", "--hard")
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "[probe.sh]", "# only words\n[probe.sh]", 1))
	r.Write("app/loft.toml", strings.Replace(r.Read("app/loft.toml"), "grep -q main", "grep -c main", 1))
	if got := reach(t, r); !slices.Equal(got, []string{"test@app", "test@lib"}) {
		t.Errorf("declarations: %v", got)
	}
	r.Git("checkout", "-q", ".")
	r.Git("checkout", "-q", "--detach")
	if got := reach(t, r, "--since", "HEAD~1"); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("detached, since another revision: %v", got)
	}
	if a := r.Grayloft("reach", "--since", "nonsense"); a.Code != 2 || !strings.Contains(a.Err, `no revision "nonsense"`) {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
	if a := r.Grayloft("reach", "--files-from", "-"); a.Code != 0 {
		t.Errorf("no files at all: exit %d: %s", a.Code, a.Err)
	}
	rep := r.Run("--file", "lib/test/t")
	if len(rep.Tasks) != 2 || !rep.Of("test@lib").Picked || rep.Of("generate@lib").Picked {
		t.Errorf("what --file means, and what it pulls in: %+v", rep.Tasks)
	}
}

func TestShallowClonesSelectEverythingAndExplainTheFix(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Git("checkout", "-q", "-b", "work")
	r.Append("lib/test/t", "more\n")
	r.Commit("second")
	dir := r.T.TempDir() + "/shallow"
	if out, err := exec.Command("git", "clone", "-q", "--depth", "1", "--branch", "work", "file://"+r.Dir, dir).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	c := &trial.Repo{T: t, Dir: dir, Env: r.Env}
	a := c.Grayloft("reach", "--format", "json")
	if !strings.Contains(a.Err, "git fetch --unshallow") || strings.Count(a.Out, "everything") != 4 {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
}

func TestSparseCheckoutsRunWhatIsThereAndNameWhatIsNot(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Write("grayloft.toml", strings.Replace(sample["grayloft.toml"], `["lib", "app"]`, `["*"]`, 1))
	r.Write("lib/loft.toml", strings.Replace(sample["lib/loft.toml"], `"test/**"]`, `"test/**", "repo:app/unread"]`, 1))
	r.Commit("a pattern for projects, and a file that will be left out")
	c := &trial.Repo{T: t, Dir: r.T.TempDir() + "/sparse", Env: r.Env}
	if out, err := exec.Command("git", "clone", "-q", "--sparse", "file://"+r.Dir, c.Dir).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	c.Git("sparse-checkout", "set", "lib")
	if a := c.Grayloft("reach", "--format", "json"); a.Code != 0 || strings.Contains(a.Out, "@") {
		t.Errorf("what is left out counts as changed: exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if a := c.Grayloft("run", "test"); a.Code != 0 || !strings.Contains(a.Out, "test@lib") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if a := c.Grayloft("check"); !strings.Contains(a.Err, "this checkout is sparse") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	if a := c.Grayloft("check", "--fix"); a.Code != 2 || !strings.Contains(a.Err, "use a whole checkout") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
	c.Git("sparse-checkout", "set", "app")
	if a := c.Grayloft("run", "test"); a.Code != 2 || !strings.Contains(a.Err, "no project has that name") ||
		!strings.Contains(a.Err, "git sparse-checkout add") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
}

func TestNamesAreRelativeToTheCurrentDirectory(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	for _, c := range []struct {
		dir  string
		args []string
		want string
	}{
		{".", []string{"test"}, "test@app test@lib"},
		{"lib/src", []string{"test"}, "test@lib"},
		{"lib", []string{"test@app"}, "test@app"},
		{".", []string{"--pick", "lib", "test"}, "test@lib"},
		{".", []string{"te*"}, "test@app test@lib"},
		{".", []string{"--pick", "changed"}, ""},
	} {
		a := r.GrayloftIn(c.dir, append([]string{"tasks", "--format", "json"}, c.args...)...)
		var list []struct{ Task string }
		if err := json.Unmarshal([]byte(a.Out), &list); err != nil {
			t.Fatalf("%v in %s: %v\n%s", c.args, c.dir, err, a.Err)
		}
		var got []string
		for _, j := range list {
			got = append(got, j.Task)
		}
		slices.Sort(got)
		if strings.Join(got, " ") != c.want {
			t.Errorf("%v in %s: %v, want %s", c.args, c.dir, got, c.want)
		}
	}
}

func TestMistakesAreExplained(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	for _, c := range []struct {
		dir  string
		args []string
		says string
	}{
		{".", []string{"run"}, "which tasks?"},
		{".", []string{"run", "biuld"}, `did you mean "build"?`},
		{".", []string{"run", "lib"}, `"lib" is a project, not a task`},
		{"lib", []string{"run", "build"}, `write "build@*"`},
		{".", []string{"run", "test", "--pick", "lob"}, `did you mean "lib"?`},
		{".", []string{"run", "test", "--jobs", "0"}, "at least 1"},
		{".", []string{"run", "test", "--logs", "loud"}, "live, whole, failures, none"},
		{".", []string{"show", "test@lab"}, `did you mean "test@lib"?`},
		{".", []string{"--format", "yaml", "projects"}, "text or json"},
		{".", []string{"run", "--nonsense"}, "see grayloft run --help"},
		{".", []string{"projects", "lib"}, "takes no names"},
		{".", []string{"prjects"}, "did you mean projects?"},
		{".", []string{"cache", "status"}, "is not a command of cache: forget, share, stats, trim, verify"},
		{".", []string{"why", "generate@app"}, "matches: their tasks are build, test"},
		{".", []string{"--repo", "lib", "projects"}, "there is no grayloft.toml"},
		{".", []string{"log", "test@lib"}, "has not run in this checkout"},
	} {
		a := r.GrayloftIn(c.dir, c.args...)
		if a.Code == 0 || !strings.Contains(a.Err, c.says) || a.Out != "" {
			t.Errorf("%v: exit %d, out %q, err %q; want %q", c.args, a.Code, a.Out, a.Err, c.says)
		}
	}
	r.Append("lib/loft.toml", "reads = 7\n")
	if a := r.Grayloft("projects"); a.Code != 2 || !strings.Contains(a.Err, "lib/loft.toml:") ||
		!strings.Contains(a.Err, "1 error in 1 file") {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
}

func TestLooking(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	var projects []map[string]any
	if err := json.Unmarshal([]byte(r.Grayloft("projects", "--format", "json").Out), &projects); err != nil || len(projects) != 2 ||
		projects[0]["name"] != "app" {
		t.Errorf("%v, %v", projects, err)
	}
	for _, key := range []string{"name", "dir", "kind", "needs", "tags", "owner", "tasks"} {
		if projects[0][key] == nil {
			t.Errorf("projects do not say %q", key)
		}
	}
	for args, want := range map[string]string{
		"show build@app": "sh -e -c 'mkdir -p out && cat main ../lib/src/* ../lib/gen/types > out/app'",
		"show lib":       "needed by",
		"tasks":          "generate@lib",
		"version":        "schema 1",
	} {
		if a := r.Grayloft(strings.Fields(args)...); a.Code != 0 || !strings.Contains(a.Out, want) {
			t.Errorf("%s: exit %d\n%s%s", args, a.Code, a.Out, a.Err)
		}
	}
	var task map[string]any
	if err := json.Unmarshal([]byte(r.Grayloft("show", "test@app", "--format", "json").Out), &task); err != nil {
		t.Fatal(err)
	}
	if from := task["run"].(map[string]any)["from"]; from != "app/loft.toml:10" {
		t.Errorf("its command comes from %v", from)
	}
}

func TestReachExplainsPathsAndTheirAbsence(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	for file, want := range map[string]string{
		"lib/schema":    "build@app     lib/schema → generate@lib",
		"lib/src/a":     "build@app  lib/src/a",
		"lib/gen/types": "is an output of generate@lib",
		"app/unread":    "belongs to project app, and none of its tasks reads it",
		"elsewhere":     "is in no project",
		"app/loft.toml": "none of them differs from those at main",
	} {
		if a := r.Grayloft("reach", file); a.Code != 0 || !strings.Contains(a.Out, want) {
			t.Errorf("%s: %s%s", file, a.Out, a.Err)
		}
	}
	a := r.Grayloft("reach", "lib/schema", "lib/test/t")
	if strings.Count(a.Out, "task  ") != 2 {
		t.Errorf("each file for itself: %s", a.Out)
	}
	var m struct {
		Include []struct{ Project, Dir, Tasks string }
	}
	a = r.Grayloft("reach", "--as", "ci-matrix", "lib/schema")
	if err := json.Unmarshal([]byte(a.Out), &m); err != nil || strings.Count(a.Out, "\n") != 1 || len(m.Include) != 2 {
		t.Fatalf("%v: %s", err, a.Out)
	}
	if rep := r.Run(strings.Fields(m.Include[0].Tasks)...); !rep.OK || m.Include[0].Project != "app" || m.Include[0].Dir != "app" {
		t.Errorf("a job of the matrix: %+v", m.Include[0])
	}
}

func TestPatternsExpandedByTheShellAreExplained(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	for _, c := range []struct{ args, want string }{
		{"run app lib", "is a project, not a task"},
		{"run lib/src", `--pick './lib/*'`},
		{"run lib/schema", "--file lib/schema"},
		{"run --pick lib/src lib/test", "the shell replaced a pattern by lib/src lib/test"},
	} {
		if a := r.Grayloft(strings.Fields(c.args)...); a.Code != 2 || !strings.Contains(a.Err, c.want) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
}

func TestSelectionInEveryShapeOfCheckout(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)

	// A repository inside a larger one.
	outer := trial.New(t, map[string]string{"readme": "outer\n"})
	for name, text := range sample {
		outer.Write("inner/"+name, text)
	}
	outer.Commit("inner")
	outer.Append("inner/lib/test/t", "more\n")
	outer.Append("readme", "more\n")
	inner := &trial.Repo{T: t, Dir: outer.Path("inner"), Env: outer.Env}
	if got := reach(t, inner); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("inside a larger repository: %v", got)
	}
	if rep := inner.Run("test@lib"); !rep.OK {
		t.Errorf("running inside a larger repository: %+v", rep.Answer)
	}

	// A second worktree, on a branch of its own.
	tree := r.Path("../tree")
	r.Git("worktree", "add", "-q", "-b", "side", tree)
	side := &trial.Repo{T: t, Dir: tree, Env: r.Env}
	side.Append("lib/test/t", "more\n")
	side.Commit("on the side")
	if got := reach(t, side); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("a worktree: %v", got)
	}

	// A submodule's files are not tracked by this repository.
	r.Git("-c", "protocol.file.allow=always", "submodule", "add", "-q", outer.Dir, "app/sub")
	r.Commit("with a submodule")
	if rep := r.Run("--pick", "all"); !rep.OK {
		t.Errorf("with a submodule: %+v", rep.Answer)
	}
	if got := reach(t, r, "--since", "HEAD"); len(got) != 0 {
		t.Errorf("an unchanged submodule reaches %v", got)
	}
	r.Remove("lib/test/t")
	if got := reach(t, r, "--since", "HEAD"); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("a deletion: %v", got)
	}
}

func TestLastGoodIsTheNewestGoodCommitOfTheBranch(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, sample)
	ci := r.Clone().Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "ci")
	r.Login(s.URL, s.Token(t, "ann", "person/ann", "trusted"), "office")
	if a := r.Grayloft("reach", "--since", "last-good"); a.Code != 0 || !strings.Contains(a.Err, "everything counts as changed") {
		t.Errorf("no run yet: exit %d, %s", a.Code, a.Err)
	}
	if rep := ci.Run("--pick", "all"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	r.Append("lib/test/t", "more\n")
	r.Commit("good so far")
	if got := reach(t, r, "--since", "last-good"); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("since the first: %v", got)
	}
	ci.Git("pull", "-q", r.Dir, "main")
	ci.Write("app/main", "other\n") // so that test@app fails
	if rep := ci.Run("--pick", "all", "--keep-going"); rep.OK {
		t.Fatal("it should fail")
	}
	if got := reach(t, r, "--since", "last-good"); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("a run that failed is not good: %v", got)
	}
	ci.Git("checkout", "-q", ".")
	if rep := ci.Run("--pick", "all"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	if got := reach(t, r, "--since", "last-good"); len(got) != 0 {
		t.Errorf("since the newest: %v", got)
	}
	if a := r.Grayloft("reach", "--since", "last-good", "--repo", ci.Dir); a.Code != 0 {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
}

// The work of one ticket: what the commits that mention it changed, merges and
// renames included, and nothing else that changed since the base.
func TestTheWorkOfATicketIsSelected(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	base := strings.TrimSpace(r.Git("rev-parse", "HEAD"))
	r.Append("lib/test/t", "more\n")
	r.Commit("FARE-12: more cases")
	r.Append("app/main", "\n")
	r.Commit("something else")
	picked := func(args ...string) (names []string) {
		for _, x := range r.Plan(append(args, "--since", base)...).Tasks {
			if x.Picked {
				names = append(names, x.Task)
			}
		}
		return names
	}
	if got := picked("--pick", "commits:FARE-12"); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("one commit: %v", got)
	}
	if got := reach(t, r, "--since", base, "--commits", "fare-12: more"); !slices.Equal(got, []string{"test@lib"}) {
		t.Errorf("reach, in another case: %v", got)
	}
	// A branch whose merge alone names the ticket.
	r.Git("checkout", "-q", "-b", "side", base)
	r.Append("lib/schema", "two\n")
	r.Commit("on a branch")
	r.Git("checkout", "-q", "main")
	r.Git("merge", "-q", "-m", "Merge HARBOUR 7", "side")
	if got := picked("--pick", `commits:"HARBOUR 7"`); !slices.Equal(got, []string{"generate@lib"}) {
		t.Errorf("a merge: %v", got)
	}
	for _, args := range [][]string{{"plan", "--pick", "commits:FARE-99", "--since", base}, {"reach", "--commits", "FARE-99", "--since", base}} {
		if a := r.Grayloft(args...); a.Code != 2 || !strings.Contains(a.Err, `"FARE-99" in its message`) {
			t.Errorf("%v: exit %d, %s", args, a.Code, a.Err)
		}
	}
	for _, args := range [][]string{{"plan", "--pick", "commits:FARE-12", "--since", "nowhere"}, {"reach", "--commits", "FARE-12", "--since", "nowhere"}} {
		if a := r.Grayloft(args...); a.Code != 2 || !strings.Contains(a.Err, `git knows no revision "nowhere"`) {
			t.Errorf("%v: exit %d, %s", args, a.Code, a.Err)
		}
	}
	if a := r.Grayloft("reach", "--commits", "FARE-12", "lib/test/t"); a.Code != 2 ||
		!strings.Contains(a.Err, "give it without files") {
		t.Errorf("with files: %d %s", a.Code, a.Err)
	}
}

// What failed last, in this checkout or on this branch, and not what failed
// earlier or on another branch.
func TestWhatFailedIsSelected(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, sample)
	failed := func(of *trial.Repo) (names []string) {
		for _, x := range of.Plan("--pick", "failed").Tasks {
			if x.Picked {
				names = append(names, x.Task)
			}
		}
		return names
	}
	if got := failed(r); len(got) != 0 {
		t.Errorf("before anything ran: %v", got)
	}
	good := r.Read("app/main")
	r.Write("app/main", "other\n") // so that test@app fails
	if rep := r.Run("--pick", "all", "--keep-going"); rep.OK {
		t.Fatal("it should fail")
	}
	if got := failed(r); !slices.Equal(got, []string{"test@app"}) {
		t.Errorf("here: %v", got)
	}
	r.Write("app/main", good)
	if rep := r.Run("--pick", "failed"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	if got := failed(r); len(got) != 0 {
		t.Errorf("after it passed: %v", got)
	}

	// With a service, what failed elsewhere on this branch.
	ci := r.Clone().Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "ci")
	ci.Write("app/main", "other\n")
	if rep := ci.Run("--pick", "all", "--keep-going"); rep.OK {
		t.Fatal("it should fail")
	}
	r.Login(s.URL, s.Token(t, "ann", "person/ann", "trusted"), "office")
	if got := failed(r); !slices.Equal(got, []string{"test@app"}) {
		t.Errorf("what CI says: %v", got)
	}
	r.Git("checkout", "-q", "-b", "other")
	if got := failed(r); len(got) != 0 {
		t.Errorf("on another branch: %v", got)
	}
	ci.Write("app/main", good)
	if rep := ci.Run("--pick", "all"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	r.Git("checkout", "-q", "main")
	if got := failed(r); len(got) != 0 {
		t.Errorf("after CI passed: %v", got)
	}
}

func TestPartsRunEveryTaskOnce(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, _ := everyone(t, s)
	files := map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"p/*\"]\n"}
	slow := map[string]bool{"a": true, "b": true}
	for _, n := range []string{"a", "b", "c", "d", "e", "f"} {
		run := "cat in > out"
		if slow[n] {
			run = "sleep 0.4; " + run
		}
		files["p/"+n+"/loft.toml"] = "[project]\n[task.make]\nrun = \"" + run + "\"\nreads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n"
		files["p/"+n+"/in"] = n
	}
	r := trial.New(t, files).Login(s.URL, ci, "ci")
	r.Run("make")
	for n := range files {
		if strings.HasSuffix(n, "/in") {
			r.Append(n, "changed")
		}
	}
	r.Commit("all of it")
	of := map[string]int{}
	for i := 1; i <= 2; i++ {
		c := r.Clone().Login(s.URL, ci, "ci")
		for _, x := range c.Run("make", "--part", fmt.Sprintf("%d/2", i)).Tasks {
			if of[x.Task] != 0 {
				t.Errorf("%s is in both parts", x.Task)
			}
			of[x.Task] = i
		}
	}
	if len(of) != 6 {
		t.Errorf("%d of 6 tasks ran", len(of))
	}
	if of["make@p/a"] == of["make@p/b"] {
		t.Errorf("the two that take long are both in part %d", of["make@p/a"])
	}
	for _, bad := range []string{"0/2", "3/2", "x", "1/", "1/0"} {
		if a := r.Grayloft("run", "make", "--part", bad); a.Code != 2 || !strings.Contains(a.Err, "2/5") {
			t.Errorf("--part %s: %d %s", bad, a.Code, a.Err)
		}
	}
	r.Login("http://127.0.0.1:1", ci, "ci")
	if a := r.Grayloft("run", "make", "--part", "1/2"); a.Code != 3 || !strings.Contains(a.Err, "--offline") {
		t.Errorf("without the service: %d %s", a.Code, a.Err)
	}
	if a := r.Grayloft("run", "make", "--part", "1/2", "--offline"); a.Code != 0 {
		t.Errorf("offline: %d %s", a.Code, a.Err)
	}
}
