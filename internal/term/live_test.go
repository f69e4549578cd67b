package term

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
)

// The last task of a run fails, and the run ends in the same moment.
func TestTheLastLinesOfARunAreNotLostOnATerminal(t *testing.T) {
	g := load(t)
	for n := range 50 {
		var out bytes.Buffer
		sc, _ := screen()
		v := newLiveView(&plainView{sc: sc, out: &out, logs: LogsFailures, wide: 80}, ViewOptions{
			Tasks: g.Tasks, Seconds: func(*graph.Task) (float64, bool) { return 0, false },
		})
		v.Warn("something is odd")
		v.Done(&engine.Result{
			Task: g.Task("test@notices"), Outcome: decide.Failed, Message: "exit 3", LogText: []byte("first\nsecond\n"),
		})
		v.Close()
		for _, want := range []string{"warning: something is odd", "test@notices", "exit 3", "│ first", "│ second"} {
			if !strings.Contains(out.String(), want) {
				t.Fatalf("run %d: %q is lost:\n%s", n, want, fmt.Sprintf("%q", out.String()))
			}
		}
	}
}
