package cli_test

import (
	"os"
	"strings"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// heard collects the output of a process, to be read while it runs.
type heard struct {
	mu sync.Mutex
	b  strings.Builder
}

func (h *heard) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.b.Write(p)
}

func (h *heard) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.b.String()
}

func TestWatchRunsAgainAsFilesChange(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[task.copy]\nrun = \"cat in > out; if grep -q slow in; then sleep 60; fi\"\nreads = [\"in\"]\nwrites = [\"out\"]\n",
		"in":            "one\n", "unread": "x\n",
	})
	var out heard
	cmd := r.Command("watch", "copy")
	cmd.Dir, cmd.Stdout, cmd.Stderr = r.Dir, &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	defer cmd.Process.Kill()
	is := func(want string) func() bool {
		return func() bool { b, _ := os.ReadFile(r.Path("out")); return string(b) == want }
	}
	trial.Wait(t, "the first run", func() bool { return strings.Contains(out.String(), "waiting for changes") })
	if !is("one\n")() {
		t.Errorf("out is %q", r.Read("out"))
	}
	r.Write("in", "two\n")
	trial.Wait(t, "a run after a change", is("two\n"))
	calm := func() bool {
		return strings.HasSuffix(strings.TrimSpace(out.String()), "waiting for changes; Ctrl-C ends it")
	}
	trial.Wait(t, "calm", calm)
	r.Write("in", "slow\n")
	trial.Wait(t, "a run that takes long", is("slow\n"))
	r.Write("in", "three\n") // the slow run is outdated: it ends, and the next one starts
	trial.Wait(t, "a restart", is("three\n"))
	trial.Wait(t, "calm again", calm)
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "reads =", "reeds =", 1))
	trial.Wait(t, "an error in the declarations", func() bool { return strings.Contains(out.String(), `did you mean "reads"?`) })
	r.Write("grayloft.toml", strings.Replace(r.Read("grayloft.toml"), "reeds =", "reads =", 1))
	trial.Wait(t, "a run after it was corrected", func() bool {
		return strings.HasSuffix(strings.TrimSpace(out.String()), "current.\nwaiting for changes; Ctrl-C ends it")
	})
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	<-ended
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit %d\n%s", code, out.String())
	}
	if strings.Contains(out.String(), "out changed") {
		t.Errorf("what a task makes set off a run:\n%s", out.String())
	}
}
