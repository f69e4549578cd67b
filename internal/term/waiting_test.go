package term

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
)

func load(t *testing.T) *graph.Graph {
	t.Helper()
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml":     {Data: []byte("schema = 1\n[repo]\nname = \"t\"\nprojects = [\"notices\"]\n")},
		"notices/loft.toml": {Data: []byte("[task.build]\nrun = \"true\"\n[task.test]\nrun = \"true\"\n")},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	return g
}

// Plain text says once that a task runs elsewhere, however often it is asked for.
func TestPlainTextSaysOnceThatATaskRunsElsewhere(t *testing.T) {
	sc, out := screen()
	v := sc.NewView(ViewOptions{})
	g := load(t)
	test, build := g.Task("test@notices"), g.Task("build@notices")
	v.Waiting(test, "ci-4", 30)
	v.Waiting(test, "ci-4", 29)
	v.Waiting(build, "ci-5\x1b[2J", 0)
	v.Close()
	want := []string{
		"  … test@notices                         running on ci-4, about 0:30 left",
		"  … build@notices                        running on ci-5",
	}
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
	if len(lines) != 2 || lines[0] != want[0] || !strings.HasPrefix(lines[1], want[1]) || strings.Contains(out.String(), "\x1b") {
		t.Errorf("%q", lines)
	}
	if strings.Contains(lines[1], "left") {
		t.Errorf("nobody knows how long it takes: %q", lines[1])
	}

	sc, out = screen()
	sc.Quiet = true
	sc.NewView(ViewOptions{}).Waiting(test, "ci-4", 30)
	if out.Len() > 0 {
		t.Errorf("quiet: %q", out)
	}
}

// On a terminal a task has one line: where it runs, or that it runs here.
func TestProgressShowsATaskThatRunsElsewhereUntilItRunsHereOrIsDone(t *testing.T) {
	sc, _ := screen()
	p := &progress{
		sc:       sc,
		total:    3,
		wide:     100,
		finished: map[string]bool{},
		began:    time.Now(),
		jobs:     1,
		expected: map[string]float64{},
	}
	shown := func() (tasks []string) {
		for _, line := range strings.Split(p.View(), "\n") {
			if f := strings.Fields(line); len(f) > 1 && strings.Contains(f[1], "@") {
				tasks = append(tasks, f[0]+f[1])
			}
		}
		return tasks
	}
	is := func(what, want string) {
		t.Helper()
		if got := strings.Join(shown(), " "); got != want {
			t.Errorf("%s: %s, want %s", what, got, want)
		}
	}
	p.Update(waitingMsg{"test@fares", runningOn("ci-4", 30)})
	p.Update(waitingMsg{"test@tides", runningOn("ci-5", 20)})
	p.Update(waitingMsg{"test@fares", runningOn("ci-4", 29)})
	is("both wait, each in its place", "…test@fares …test@tides")
	if !strings.Contains(p.View(), "running on ci-4, about 0:29 left") {
		t.Error(p.View())
	}
	p.Update(startedMsg{"test@fares", time.Now(), 0})
	is("one runs here after all", "▷test@fares …test@tides")
	p.Update(doneMsg("test@tides"))
	is("the other has its result", "▷test@fares")
	p.Update(waitingMsg{"test@fares", runningOn("ci-4", 9)})
	is("it waits again", "…test@fares")
}

// counting counts how often it is written to.
type counting struct{ times int }

func (c *counting) Write(p []byte) (int, error) { c.times++; return len(p), nil }

// Of thousands of tasks that need no work nothing is written, not even nothing.
func TestATaskThatNeedsNoWorkWritesNothing(t *testing.T) {
	out := &counting{}
	sc, _ := screen()
	sc.Out = Clean(out)
	v, g := sc.NewView(ViewOptions{}), load(t)
	v.Done(&engine.Result{Task: g.Task("test@notices"), Outcome: decide.Current})
	v.Close()
	if out.times > 0 {
		t.Errorf("written to %d times", out.times)
	}
}
