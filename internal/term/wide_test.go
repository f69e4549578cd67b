package term

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/lipgloss"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/engine"
)

// What went wrong must be readable on any terminal: nothing of it is clipped.
func TestWhatHappenedIsNeverClipped(t *testing.T) {
	message := "test@fares reads the link node_modules, but not its target ../packages: add the target to reads, or \"!node_modules\""
	log := tasklog.New(time.Now, func(string) {})
	fmt.Fprintf(log, "fares.go:12:7:\tcannot use the fare %s as a number\n\x1b[31m%s\x1b[0m\n", strings.Repeat("x", 90), strings.Repeat("long", 5000))
	r := &engine.Result{Task: load(t).Task("test@notices"), Outcome: decide.Failed, Message: message, LogText: log.Bytes()}
	for _, wide := range []int{0, 30, 72, 80, 100, 140, 400} {
		sc, _ := screen()
		v := &plainView{sc: sc, logs: LogsFailures, wide: wide}
		text := v.describe(r)
		words := strings.Join(strings.Fields(strings.ReplaceAll(text, "│", "")), "")
		for _, want := range []string{message, "cannot use the fare " + strings.Repeat("x", 90) + " as a number"} {
			if !strings.Contains(words, strings.ReplaceAll(want, " ", "")) {
				t.Errorf("%d columns: it does not say %q:\n%s", wide, want, text)
			}
		}
		if wide > 0 && strings.Count(text, "\n") > 40 {
			t.Errorf("%d columns: one line of a log takes %d lines", wide, strings.Count(text, "\n"))
		}
		for line := range strings.Lines(text) {
			if n := lipgloss.Width(line); wide >= 72 && n > wide {
				t.Errorf("%d columns: a line has %d: %q", wide, n, line)
			}
		}
	}
}

func TestALogThatOnlySaysWhyTheTaskFailedIsNotRepeated(t *testing.T) {
	sc, _ := screen()
	r := &engine.Result{Task: load(t).Task("test@notices"), Outcome: decide.Failed, Message: "it reads a link", LogText: []byte("it reads a link\n")}
	if text := (&plainView{sc: sc, logs: LogsFailures}).describe(r); strings.Count(text, "it reads a link") != 1 {
		t.Errorf("%q", text)
	}
}

func TestWhyATaskRanIsClipped(t *testing.T) {
	sc, _ := screen()
	v := &plainView{sc: sc, wide: 60}
	r := &engine.Result{Task: load(t).Task("test@notices"), Outcome: decide.Ran, Reason: "files-and-more-and-more-and-more-and-more"}
	if text := v.describe(r); strings.Count(text, "\n") != 1 || !strings.Contains(text, "…") || lipgloss.Width(text) > 60 {
		t.Errorf("%q", text)
	}
}
