package cli_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
)

// withSubmodule is a repository with a submodule, which has one itself.
func withSubmodule(t *testing.T) *trial.Repo {
	t.Helper()
	inner := trial.New(t, map[string]string{"deep": "deep one\n"})
	lib := trial.New(t, map[string]string{
		"f": "one\n", ".gitignore": "build/\n", "package.json": `{"dependencies": {"tide": "1.0.0", "quay": "1.0.0"}}`,
	})
	allow := []string{"-c", "protocol.file.allow=always", "-c", "user.name=t", "-c", "user.email=t@t.example"}
	lib.Git(append(allow, "submodule", "--quiet", "add", inner.Dir, "sub")...)
	lib.Commit("with a submodule")
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"p\"]\n",
		".gitignore":    "out\n",
		"p/loft.toml": `[task.named]
run = "cat ../third/lib/f ../third/lib/sub/deep > out"
reads = ["repo:third/**"]
writes = ["out"]
probes = []
[task.sealed]
run = "cat own/f own/sub/deep"
isolation = "sealed"
writes = []
probes = []
[task.other]
run = "true"
reads = ["loft.toml"]
writes = []
probes = []
`,
	})
	for _, dir := range []string{"third/lib", "p/own"} {
		r.Git(append(allow, "submodule", "--quiet", "add", lib.Dir, dir)...)
	}
	r.Git(append(allow, "submodule", "--quiet", "update", "--init", "--recursive")...)
	r.Commit("with submodules")
	return r
}

// The files of a submodule are read, and count, like others.
func TestFilesOfSubmodulesCount(t *testing.T) {
	t.Parallel()
	r := withSubmodule(t)
	settle := func() { // so that the survey is remembered
		t.Helper()
		past := time.Now().Add(-time.Minute)
		if err := os.Chtimes(r.Path(".git/index"), past, past); err != nil {
			t.Fatal(err)
		}
	}
	ran := func(why string, want ...string) {
		t.Helper()
		for _, again := range []bool{false, true} {
			settle()
			rep := r.Run("--pick", "all")
			got := map[string]bool{}
			for task := range rep.Ran() {
				got[strings.TrimSuffix(task, "@p")] = true
			}
			if again {
				want = nil
			}
			for _, task := range want {
				if !got[task] {
					t.Errorf("%s: %s did not run", why, task)
				}
			}
			if !rep.OK || len(got) != len(want) {
				t.Errorf("%s, again %v: ran %v, want %v\n%s%s", why, again, got, want, rep.Answer.Out, rep.Answer.Err)
			}
		}
	}
	ran("at first", "named", "sealed", "other")
	if got := r.Read("p/out"); got != "one\ndeep one\n" {
		t.Errorf("%q", got)
	}
	r.Write("third/lib/f", "two\n")
	ran("a file of a submodule", "named")
	if got := r.Read("p/out"); got != "two\ndeep one\n" {
		t.Errorf("%q", got)
	}
	r.Write("third/lib/sub/deep", "deep two\n")
	ran("a file of a submodule of a submodule", "named")
	r.Write("p/own/new", "")
	ran("a new file", "sealed")
	r.Write("p/own/build/x", "")
	ran("a file that the submodule ignores")
	r.Git("-C", "third/lib", "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-qam", "two")
	ran("a commit in the submodule")
	r.Commit("the submodule's commit")
	ran("a commit of it")
	r.Git("submodule", "--quiet", "deinit", "--force", "p/own")
	if o := r.Run("sealed").Of("sealed@p").Outcome; o != "failed" {
		t.Errorf("a submodule that is not checked out: %s", o)
	}
}

// A changed submodule affects what reads its files, and nothing else.
func TestAChangedSubmoduleAffectsWhatReadsIt(t *testing.T) {
	t.Parallel()
	r := withSubmodule(t)
	affected := func(args ...string) string {
		t.Helper()
		a := r.Grayloft(append([]string{"tasks", "--pick", "affected"}, args...)...)
		if a.Code != 0 {
			t.Fatalf("%s%s", a.Out, a.Err)
		}
		var names []string
		for _, name := range []string{"named@p", "sealed@p", "other@p"} {
			if strings.Contains(a.Out, name) {
				names = append(names, name)
			}
		}
		return strings.Join(names, " ")
	}
	if got := affected(); got != "" {
		t.Errorf("nothing changed: %s", got)
	}
	r.Write("third/lib/f", "two\n")
	if got := affected(); got != "named@p" {
		t.Errorf("a changed file: %q", got)
	}
	r.Git("-C", "third/lib", "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-qam", "two")
	r.Commit("the submodule's commit")
	if got := affected("--since", "HEAD~1"); got != "named@p" {
		t.Errorf("another commit of it: %q", got)
	}
	if got := affected("--since", "HEAD"); got != "" {
		t.Errorf("since the last commit: %q", got)
	}
}

// Files of a repository that is no submodule count where a pattern leads there, as ignored ones do.
func TestAPatternLeadsIntoAnotherRepository(t *testing.T) {
	t.Parallel()
	other := trial.New(t, map[string]string{"f": "one\n"})
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\nprojects = [\"p\"]\n",
		"p/loft.toml":   "[task.named]\nrun = \"cat cloned/f\"\nreads = [\"cloned/**\"]\nwrites = []\nprobes = []\n",
	})
	r.Git("clone", "-q", other.Dir, "p/cloned")
	allAre(t, "at first", r.Run("--pick", "all"), "ran")
	r.Write("p/cloned/f", "two\n")
	want(t, "a change", r.Run("--pick", "all").Outcomes(), map[string]string{"named@p": "ran"})
	r.Write("p/cloned/g", "")
	want(t, "a new file", r.Run("--pick", "all").Outcomes(), map[string]string{"named@p": "ran"})
	allAre(t, "again", r.Run("--pick", "all"), "current")
}

// What a submodule declares and depends on is its own.
func TestCheckReadsFilesOfSubmodulesButNotTheirManifests(t *testing.T) {
	t.Parallel()
	if a := withSubmodule(t).Grayloft("check"); a.Code != 0 || !strings.Contains(a.Out, "Nothing to change") {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
}
