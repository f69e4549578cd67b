package runner

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/protocol"
)

// Two services, or two runners, have jobs with the same numbers on one machine.
func TestJobsWithTheSameNumberHaveDifferentMarks(t *testing.T) {
	w := protocol.Work{Job: 7, Attempt: 1}
	one, other := markOf(w), markOf(w)
	if one == other || strings.HasPrefix(one, other) || len(one) < len("job-7-1-")+20 {
		t.Errorf("%s and %s", one, other)
	}
}

// A process that a job left can put anything in the place of the plan.
func TestOnlyAPlanOfTheJobIsRead(t *testing.T) {
	private := filepath.Join(t.TempDir(), "private")
	if err := os.WriteFile(private, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		make func(file string) error
		want string
	}{
		"a plan":  {func(file string) error { return os.WriteFile(file, []byte("{}"), 0o644) }, "{}"},
		"nothing": {func(string) error { return nil }, ""},
		"a link":  {func(file string) error { return os.Symlink(private, file) }, ""},
		"a link up": {func(file string) error {
			return os.Symlink("../../"+filepath.Base(filepath.Dir(private))+"/private", file)
		}, ""},
		"a pipe":      {func(file string) error { return unix.Mkfifo(file, 0o644) }, ""},
		"a directory": {func(file string) error { return os.Mkdir(file, 0o755) }, ""},
		"a huge file": {func(file string) error {
			if err := os.WriteFile(file, nil, 0o644); err != nil {
				return err
			}
			return os.Truncate(file, protocol.MaxPlan+1)
		}, ""},
	} {
		dir := t.TempDir()
		if err := c.make(filepath.Join(dir, planFile)); err != nil {
			t.Fatal(err)
		}
		got, err := readPlan(dir)
		if got != c.want && err == nil || (c.want != "") != (err == nil) || strings.Contains(got, "secret") {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
	}
}

// The client of a protected job is told that it is one.
func TestAProtectedJobIsMarked(t *testing.T) {
	r := &Runner{}
	r.known.Store(&protocol.RunnerKnown{})
	has := func(w protocol.Work) bool {
		return strings.Contains(strings.Join(r.environment(w, jobDirs{}, "secret"), " "), protocol.GuardedVar+"=yes")
	}
	if has(protocol.Work{}) || !has(protocol.Work{Refs: []string{"main"}}) {
		t.Error("the environment does not follow the job")
	}
}
