package cli_test

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

func reach(t *testing.T, r *trial.Repo, args ...string) []string {
	t.Helper()
	a := r.Loft(append([]string{"reach", "--format", "json"}, args...)...)
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
	if a := r.LoftIn("lib", "reach", "--format", "json", "test/t"); !strings.Contains(a.Out, "test@lib") {
		t.Errorf("a path from where the person is: %s%s", a.Out, a.Err)
	}
	if a := r.Loft("reach", "/etc/hostname"); a.Code != 2 || !strings.Contains(a.Err, "outside of the repository") {
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
	r.Git("mv", "lib/src/a", "lib/other")        // staged, both sides count
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
	if a := r.Loft("reach", "--since", "nonsense"); a.Code != 2 || !strings.Contains(a.Err, `no revision "nonsense"`) {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
	if a := r.Loft("reach", "--files-from", "-"); a.Code != 0 {
		t.Errorf("no files at all: exit %d: %s", a.Code, a.Err)
	}
	rep := r.Run("--file", "lib/test/t")
	if len(rep.Tasks) != 2 || !rep.Of("test@lib").Picked || rep.Of("generate@lib").Picked {
		t.Errorf("what --file means, and what it pulls in: %+v", rep.Tasks)
	}
}

func TestShallowClonesSelectEverythingAndSayHowToMendIt(t *testing.T) {
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
	a := c.Loft("reach", "--format", "json")
	if !strings.Contains(a.Err, "git fetch --unshallow") || strings.Count(a.Out, "@") != 4 {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
}

func TestNamesMeanWhereThePersonIs(t *testing.T) {
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
		a := r.LoftIn(c.dir, append([]string{"tasks", "--format", "json"}, c.args...)...)
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
		{".", []string{"run", "test", "--jobs", "0"}, "from 1"},
		{".", []string{"run", "test", "--logs", "loud"}, "live, whole, failures, none"},
		{".", []string{"show", "test@lab"}, `did you mean "test@lib"?`},
		{".", []string{"--format", "yaml", "projects"}, "text or json"},
		{".", []string{"run", "--nonsense"}, "see grayloft --help"},
		{".", []string{"projects", "lib"}, "takes no names"},
		{".", []string{"--repo", "lib", "projects"}, "there is no grayloft.toml"},
		{".", []string{"log", "test@lib"}, "has not run in this checkout"},
	} {
		a := r.LoftIn(c.dir, c.args...)
		if a.Code == 0 || !strings.Contains(a.Err, c.says) || a.Out != "" {
			t.Errorf("%v: exit %d, out %q, err %q; want %q", c.args, a.Code, a.Out, a.Err, c.says)
		}
	}
	r.Append("lib/loft.toml", "reads = 7\n")
	if a := r.Loft("projects"); a.Code != 2 || !strings.Contains(a.Err, "lib/loft.toml:") || !strings.Contains(a.Err, "1 error in 1 file") {
		t.Errorf("exit %d: %s", a.Code, a.Err)
	}
}

func TestLooking(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	var projects []map[string]any
	if err := json.Unmarshal([]byte(r.Loft("projects", "--format", "json").Out), &projects); err != nil || len(projects) != 2 || projects[0]["name"] != "app" {
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
		if a := r.Loft(strings.Fields(args)...); a.Code != 0 || !strings.Contains(a.Out, want) {
			t.Errorf("%s: exit %d\n%s%s", args, a.Code, a.Out, a.Err)
		}
	}
	var task map[string]any
	if err := json.Unmarshal([]byte(r.Loft("show", "test@app", "--format", "json").Out), &task); err != nil {
		t.Fatal(err)
	}
	if from := task["run"].(map[string]any)["from"]; from != "app/loft.toml:10" {
		t.Errorf("its command comes from %v", from)
	}
}
