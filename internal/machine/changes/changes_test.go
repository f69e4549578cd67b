package changes

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
)

type repo struct {
	t   *testing.T
	dir string
}

func newRepo(t *testing.T) repo {
	t.Helper()
	r := repo{t, t.TempDir()}
	r.git("init", "-q", "-b", "main")
	r.write("grayloft.toml", "schema = 1\n[repo]\nprojects = [\"*\"]\n")
	for _, p := range []string{"a", "b"} {
		r.write(p+"/loft.toml", "[task.make]\nrun = \"true\"\nreads = [\"in\"]\nwrites = []\n")
		r.write(p+"/in", "one\n")
	}
	r.commit("start")
	return r
}

func (r repo) write(name, text string) {
	r.t.Helper()
	full := filepath.Join(r.dir, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		r.t.Fatal(err)
	}
}

func (r repo) git(args ...string) string {
	r.t.Helper()
	out, err := exec.Command("git", append([]string{"-C", r.dir, "-c", "user.name=t", "-c", "user.email=t@skerry.example"}, args...)...).CombinedOutput()
	if err != nil {
		r.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

func (r repo) commit(message string) string {
	r.t.Helper()
	r.git("add", "-A")
	r.git("commit", "-qm", message)
	return r.git("rev-parse", "HEAD")
}

func (r repo) find(q Question) (Answer, string, error) {
	r.t.Helper()
	g, err := graph.Load(os.DirFS(r.dir), "r")
	if err != nil {
		r.t.Fatal(err)
	}
	q.Graph = g
	a, err := Find(r.t.Context(), git.Repo{Dir: r.dir}, q)
	var touched []string
	for _, x := range a.Touched {
		touched = append(touched, x.Task.Addr())
	}
	return a, strings.Join(touched, " "), err
}

func TestFindMeasuresAgainstTheBase(t *testing.T) {
	r := newRepo(t)
	first := r.git("rev-parse", "HEAD")
	r.write("a/in", "two\n")
	if a, got, err := r.find(Question{}); err != nil || got != "make@a" || a.Base != "HEAD" {
		t.Errorf("an edited file: %q against %s, %v", got, a.Base, err)
	}
	r.commit("a")
	r.write("b/loft.toml", "[task.make]\nrun = \"false\"\nreads = [\"in\"]\nwrites = []\n")
	if _, got, err := r.find(Question{}); err != nil || got != "make@b" {
		t.Errorf("an edited declaration: %q, %v", got, err)
	}
	if _, got, err := r.find(Question{Since: first}); err != nil || got != "make@a make@b" {
		t.Errorf("since the first commit: %q, %v", got, err)
	}
	if _, got, err := r.find(Question{Paths: []string{"a/in"}}); err != nil || got != "make@a" {
		t.Errorf("a named file: %q, %v", got, err)
	}
}

// A clone that CI makes of one branch has the others only as they are at the remote.
func TestABranchMayBeThereOnlyAtTheRemote(t *testing.T) {
	r := newRepo(t)
	first := r.git("rev-parse", "HEAD")
	r.write("a/in", "two\n")
	r.commit("a")
	if _, _, err := r.find(Question{Since: "trunk"}); err == nil {
		t.Error("a branch that nobody has was found")
	}
	r.git("update-ref", "refs/remotes/upstream/trunk", first)
	if _, got, err := r.find(Question{Since: "trunk"}); err != nil || got != "make@a" {
		t.Errorf("%q, %v", got, err)
	}
	r.git("update-ref", "refs/remotes/other/trunk", "HEAD")
	if _, _, err := r.find(Question{Since: "trunk"}); err == nil {
		t.Error("one of two remotes was chosen")
	}
	r.git("update-ref", "refs/remotes/origin/trunk", first)
	if _, got, err := r.find(Question{Since: "trunk"}); err != nil || got != "make@a" {
		t.Errorf("that of origin: %q, %v", got, err)
	}
	r.git("branch", "trunk") // it is there: no other is looked for
	if _, got, err := r.find(Question{Since: "trunk"}); err != nil || got != "" {
		t.Errorf("a branch of the checkout: %q, %v", got, err)
	}
}

// A directory that becomes a project takes its files with it, although they did not change.
func TestFilesOfANewProjectTouchTheirReaders(t *testing.T) {
	r := newRepo(t)
	r.write("grayloft.toml", "schema = 1\n[repo]\nprojects = [\"*\", \"a/*\"]\n")
	r.write("a/loft.toml", "[project]\noffers = [\"**\"]\n[task.make]\nrun = \"true\"\nreads = [\"in\"]\nwrites = []\n"+
		"[task.wide]\nrun = \"true\"\nwrites = []\n")
	r.write("b/loft.toml", "[project]\nneeds = [\"a\"]\n[task.make]\nrun = \"true\"\nreads = [\"needs:*\"]\nwrites = []\n")
	r.write("a/part/file", "one\n")
	apart := r.commit("one project")
	r.write("a/part/loft.toml", "[task.make]\nrun = \"true\"\nwrites = []\n")
	sorted := func(list string) string {
		parts := strings.Fields(list)
		slices.Sort(parts)
		return strings.Join(parts, " ")
	}
	if a, got, err := r.find(Question{}); err != nil || sorted(got) != "make@a/part make@b wide@a" || a.Warning != "" {
		t.Errorf("a new project: %q, %q, %v", got, a.Warning, err)
	}
	for what, change := range map[string]func(){
		"its only file changed as well": func() { r.write("a/part/file", "two\n") },
		"its only file is gone":         func() { r.git("rm", "-q", "-f", "a/part/file") },
	} {
		change()
		if a, got, err := r.find(Question{}); err != nil || sorted(got) != "make@a/part make@b wide@a" || a.Warning != "" {
			t.Errorf("a new project, and %s: %q, %q, %v", what, got, a.Warning, err)
		}
		r.git("checkout", "-q", "HEAD", "a/part/file")
	}
	inside := r.commit("two projects")
	if err := os.Remove(filepath.Join(r.dir, "a/part/loft.toml")); err != nil {
		t.Fatal(err)
	}
	if a, got, err := r.find(Question{Since: inside}); err != nil || sorted(got) != "make@b wide@a" || a.Warning != "" {
		t.Errorf("a project that is none any more: %q, %q, %v", got, a.Warning, err)
	}
	if a, got, err := r.find(Question{Since: apart}); err != nil || got != "" || a.Warning != "" {
		t.Errorf("as before: %q, %q, %v", got, a.Warning, err)
	}
}

// What the declarations of a commit say is remembered for that commit, and for one choice of settings.
func TestTheBaseIsRemembered(t *testing.T) {
	r := newRepo(t)
	r.write("grayloft.toml", "schema = 1\n[repo]\nprojects = [\"*\"]\n[setting.size]\ntype = \"int\"\ndefault = 1\n")
	r.write("a/loft.toml", "[task.make]\nrun = \"echo %{setting.size}\"\nreads = [\"in\"]\nwrites = []\n")
	first := r.commit("settings")
	r.write(".grayloft/.gitignore", "*\n")
	r.write("b/loft.toml", "[task.make]\nrun = \"false\"\nreads = [\"in\"]\nwrites = []\n")
	trace := filepath.Join(t.TempDir(), "trace")
	t.Setenv("GIT_TRACE", trace)
	for _, c := range []struct {
		what string
		q    Question
		want string
		read bool
	}{
		{"at first", Question{}, "make@b", true},
		{"again", Question{}, "make@b", false},
		{"another setting than now", Question{Sets: []string{"size=2"}}, "make@a make@b", true},
		{"another commit", Question{Since: first + "~"}, "make@a make@b", true},
		{"that commit again", Question{Since: first + "~"}, "make@a make@b", false},
	} {
		_ = os.Remove(trace)
		_, got, err := r.find(c.q)
		text, _ := os.ReadFile(trace)
		if read := strings.Contains(string(text), "cat-file"); err != nil || got != c.want || read != c.read {
			t.Errorf("%s: %q, %v, the commit was read: %t", c.what, got, err, read)
		}
	}
}

func TestAMissingBaseTouchesEverything(t *testing.T) {
	r := newRepo(t)
	var since *SinceError
	if _, _, err := r.find(Question{Since: "nowhere"}); !errors.As(err, &since) {
		t.Errorf("a revision that does not exist: %v", err)
	}
	r.git("checkout", "-q", "--orphan", "other")
	r.commit("unrelated")
	if a, got, err := r.find(Question{Since: "main"}); err != nil || got != "make@a make@b" || !strings.Contains(a.Warning, "no common ancestor") {
		t.Errorf("%q, %q, %v", got, a.Warning, err)
	}
	r.git("checkout", "-q", "--orphan", "empty")
	if a, got, err := r.find(Question{}); err != nil || got != "make@a make@b" || a.Warning != noCommit+", so everything counts as changed" {
		t.Errorf("before the first commit: %q, %q, %v", got, a.Warning, err)
	}
	r.git("checkout", "-q", "-f", "main")
	r.write("grayloft.toml", "broken")
	r.commit("broken")
	broken := r.git("rev-parse", "HEAD")
	r.write("grayloft.toml", "schema = 1\n[repo]\nprojects = [\"*\"]\n")
	if a, got, err := r.find(Question{Since: broken}); err != nil || got != "make@a make@b" || !strings.Contains(a.Warning, "cannot be read") {
		t.Errorf("declarations that cannot be read: %q, %q, %v", got, a.Warning, err)
	}
	r.write(".git/config", "[broken\n")
	if _, _, err := r.find(Question{}); err == nil || !strings.Contains(err.Error(), "bad config line") {
		t.Errorf("git refuses to look at the repository: %v", err)
	}
}

func TestLastGoodIsAnAncestor(t *testing.T) {
	r := newRepo(t)
	good := r.git("rev-parse", "HEAD")
	r.git("checkout", "-qb", "side")
	r.write("b/in", "side\n")
	elsewhere := r.commit("side")
	r.git("checkout", "-q", "main")
	r.write("a/in", "two\n")
	r.commit("a")
	ask := func(commits []string, err error) Question {
		return Question{Since: LastGood, LastGood: func(_ context.Context, branch string) ([]string, error) {
			if branch != "main" {
				t.Errorf("asked about branch %q", branch)
			}
			return commits, err
		}}
	}
	if a, got, err := r.find(ask([]string{elsewhere, good}, nil)); err != nil || got != "make@a" || a.Warning != "" {
		t.Errorf("%q, %q, %v", got, a.Warning, err)
	}
	for what, q := range map[string]Question{
		"has no run on the trusted shelf":       ask([]string{elsewhere}, nil),
		"did not name the last good commit (x)": ask(nil, errors.New("x")),
	} {
		if a, got, err := r.find(q); err != nil || got != "make@a make@b" || !strings.Contains(a.Warning, what) {
			t.Errorf("%q, %q, %v", got, a.Warning, err)
		}
	}
}
