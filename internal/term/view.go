package term

import (
	"fmt"
	"io"
	"math"
	"strings"
	"sync"
	"time"

	"github.com/charmbracelet/lipgloss"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/engine"
)

// View shows a run while it goes on.
type View interface {
	engine.Observer
	// Close ends the changing part of the view. Later warnings are still shown.
	Close()
}

// Logs say which logs a view shows.
type Logs string

// The values of --logs.
const (
	LogsLive     Logs = "live"
	LogsWhole    Logs = "whole"
	LogsFailures Logs = "failures"
	LogsNone     Logs = "none"
)

// ViewOptions describe the run that a view shows.
type ViewOptions struct {
	Title   string // what was requested
	Tasks   []*graph.Task
	Jobs    int
	Logs    Logs                              // empty: the default for the output
	Seconds func(*graph.Task) (float64, bool) // the last duration of a task, if known
}

// NewView returns the view that fits the output.
func (sc *Screen) NewView(o ViewOptions) View {
	wide := sc.Width()
	p := &plainView{sc: sc, out: sc.Out, logs: o.Logs, wide: wide}
	switch {
	case sc.Format == "json":
		return sc.SilentView()
	case sc.Quiet:
		p.logs = LogsFailures
		return p
	case p.logs == "" && wide > 0:
		p.logs = LogsFailures
	case p.logs == "":
		p.logs = LogsWhole
	}
	if len(o.Tasks) > 0 {
		fmt.Fprintf(sc.Out, "%s: %s, %d at a time\n\n", o.Title, amount.Count(len(o.Tasks), "task", "tasks"), o.Jobs)
	}
	if wide == 0 {
		return p
	}
	return newLiveView(p, o)
}

// SilentView returns a view that shows only warnings.
func (sc *Screen) SilentView() View {
	return &plainView{sc: sc, out: io.Discard, logs: LogsNone}
}

// plainView writes a line for each finished task, followed by its log.
type plainView struct {
	sc    *Screen
	out   io.Writer
	logs  Logs
	wide  int
	mu    sync.Mutex
	shown bool // something was printed, so the summary is set apart
	done  bool
	told  map[*graph.Task]bool // that it runs elsewhere
}

// Started implements [engine.Observer].
func (v *plainView) Started(*graph.Task, time.Duration, int) {}

// Waiting implements [engine.Observer]: it is said once.
func (v *plainView) Waiting(t *graph.Task, place string, left float64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.sc.Quiet || v.told[t] {
		return
	}
	if v.told == nil {
		v.told = map[*graph.Task]bool{}
	}
	v.told[t], v.shown = true, true
	fmt.Fprintln(v.out, Fit(waitingLine(v.sc, t.Addr(), runningOn(place, left)), v.wide))
}

func waitingLine(sc *Screen, task, text string) string {
	return "  … " + Pad(task, 36) + " " + sc.Soft(text)
}

// runningOn says where a task runs that is waited for, and for how many seconds.
func runningOn(place string, left float64) string {
	text := "running on " + Printable(place)
	if left > 0 {
		text += ", about " + minutes(math.Ceil(left)) + " left"
	}
	return text
}

// Elsewhere implements [engine.Observer].
func (v *plainView) Elsewhere(t *graph.Task, line string) { v.Line(t, line) }

// Line implements [engine.Observer].
func (v *plainView) Line(t *graph.Task, line string) {
	if v.logs != LogsLive {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.shown = true
	fmt.Fprintf(v.out, "%s │ %s\n", t.Addr(), v.sc.PrintableLog(line))
}

// Done implements [engine.Observer].
func (v *plainView) Done(r *engine.Result) {
	text := v.describe(r)
	v.mu.Lock()
	defer v.mu.Unlock()
	if text == "" { // of most tasks, if nothing has to be done
		return
	}
	v.shown = true
	fmt.Fprint(v.out, text)
}

// Warn implements [engine.Observer].
func (v *plainView) Warn(s string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	fmt.Fprintf(v.sc.Err, "warning: %s\n", Printable(s))
}

// Close implements [View].
func (v *plainView) Close() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.shown && !v.done {
		fmt.Fprintln(v.out)
	}
	v.done = true
}

// describe returns the text for a finished task, log included; "" for a task
// that needed no work.
func (v *plainView) describe(r *engine.Result) string {
	sc := v.sc
	switch {
	case sc.Quiet && r.Outcome != decide.Failed:
		return ""
	case sc.Verbose:
	case r.Outcome == decide.Current, r.Outcome == decide.Cached, r.Outcome == decide.NotStarted:
		return ""
	}
	took := Seconds(r.Timing.Took.Seconds())
	if r.Outcome == decide.Blocked || r.Outcome == decide.NotStarted {
		took = ""
	}
	var b strings.Builder
	v.line(&b, fmt.Sprintf("  %s %s %9s   ", sc.Outcome(r.Outcome), Pad(r.Task.Addr(), 26), took), r)
	for _, f := range r.Drift {
		for _, line := range Wrap(f.Why, v.room(4)) {
			b.WriteString("    " + line + "\n")
		}
		for _, line := range Wrap(f.Advice(), v.room(6)) {
			b.WriteString("      " + line + "\n")
		}
	}
	if v.showsLog(r.Outcome) {
		v.log(&b, r)
	}
	return b.String()
}

// room is how many cells are left beside an indentation; 0 is no limit.
func (v *plainView) room(indent int) int {
	if v.wide == 0 {
		return 0
	}
	return max(v.wide-indent, minRoom)
}

// beside is how many cells a message needs beside its task; with fewer, it goes below.
const beside = 40

// line writes what became of a task. What happened is never clipped, only why it ran.
func (v *plainView) line(b *strings.Builder, lead string, r *engine.Result) {
	text := why(r)
	if r.Message == "" {
		b.WriteString(strings.TrimRight(Fit(lead+v.sc.Soft(text), v.wide), " ") + "\n")
		return
	}
	indent := lipgloss.Width(lead)
	if v.wide > 0 && indent+lipgloss.Width(text) > v.wide && v.room(indent) < beside {
		b.WriteString(strings.TrimRight(lead, " ") + "\n")
		indent, lead = 6, "      "
	}
	for i, line := range Wrap(text, v.room(indent)) {
		if i > 0 {
			lead = strings.Repeat(" ", indent)
		}
		b.WriteString(strings.TrimRight(lead+v.sc.Soft(line), " ") + "\n")
	}
}

func (v *plainView) showsLog(o decide.Outcome) bool {
	switch o {
	case decide.Ran:
		return v.logs == LogsWhole
	case decide.Failed:
		return v.logs == LogsWhole || v.logs == LogsFailures
	}
	return false
}

// How many lines of a failed task's log are shown, and how many lines of the terminal one of them
// may take.
const failureLines, longLine = 12, 8

func (v *plainView) log(b *strings.Builder, r *engine.Result) {
	lines := tasklog.Parse(r.LogText)
	all := len(lines)
	if all == 1 && lines[0].Text == r.Message {
		return // it was just said
	}
	most := math.MaxInt16 // the whole log is wanted
	if v.logs == LogsFailures {
		lines, most = lines[max(0, all-failureLines):], longLine
	}
	for _, l := range lines {
		for _, line := range WrapLog(v.sc.PrintableLog(l.Text), v.room(6), most) {
			b.WriteString("    │ " + line + "\n")
		}
	}
	if len(lines) < all {
		fmt.Fprintf(b, "    └ all %d lines: grayloft log %s\n", all, r.Task.Addr())
	}
}

// why says why a task ran, or who built its outputs.
func why(r *engine.Result) string {
	var out string
	switch {
	case r.Outcome == decide.Failed && r.Message != "":
		return Printable(FirstLine(r.Message))
	case r.Outcome == decide.Blocked, r.Outcome == decide.NotStarted:
		return r.Message
	case r.Reason != "":
		out = string(r.Reason) + DescribeChanges(r.Changes)
	case r.MadeBy != nil:
		out = BuiltBy(r.MadeBy.Name, r.MadeBy.Place) + ", " + Clock(r.MadeBy.At, time.Now())
	}
	if r.Message != "" {
		out += "; " + Printable(r.Message)
	}
	return out
}

// BuiltBy says who built something, and where.
func BuiltBy(name, place string) string {
	return fmt.Sprintf("built by %s at %s", Printable(name), Printable(place))
}

// DescribeChanges lists what belongs to a reason, after a colon; "" if nothing
// is known.
func DescribeChanges(changes []key.Change) string {
	var out []string
	for _, c := range changes {
		if c.What == "" {
			continue
		}
		word := Printable(c.What)
		if c.How == "new" || c.How == "gone" {
			word += " is " + c.How
		}
		out = append(out, word)
	}
	if len(out) == 0 {
		return ""
	}
	return ": " + FirstFew(out)
}
