package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	tea "github.com/charmbracelet/bubbletea"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/engine"
)

// view shows a run while it goes on.
type view interface {
	engine.Observer
	close()
}

// view returns the view that fits the output. Before returns the last duration
// of a task in seconds, if it is known.
func (a *app) view(f runFlags, tasks []*graph.Task, asked []string, before func(*graph.Task) (float64, bool)) view {
	logs := f.logs
	wide := a.width()
	if a.format == "json" {
		return &plainView{a: a, out: io.Discard, logs: "none"}
	}
	if logs == "" {
		logs = "whole"
		if wide > 0 {
			logs = "failures"
		}
	}
	p := &plainView{a: a, out: a.out, logs: logs, wide: wide}
	if a.quiet {
		p.logs, p.quiet = "failures", true
	} else if len(tasks) > 0 {
		what := strings.Join(asked, ", ")
		if what == "" {
			what = "picked"
		}
		fmt.Fprintf(a.out, "%s: %s, %d at a time\n\n", what, counted(len(tasks), "task", "tasks"), f.jobs)
	}
	if wide == 0 || a.quiet {
		return p
	}
	return newTerminalView(p, tasks, f.jobs, before)
}

// plainView writes a line for each finished task, followed by its log.
type plainView struct {
	a     *app
	out   io.Writer
	logs  string
	quiet bool
	wide  int
	mu    sync.Mutex
	shown bool // something was printed, so the summary is separated
	done  bool
}

func (v *plainView) Started(*graph.Task, time.Duration, int) {}

func (v *plainView) Line(t *graph.Task, line string) {
	if v.logs != "live" {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.shown = true
	fmt.Fprintf(v.out, "%s │ %s\n", t.Addr(), line)
}

func (v *plainView) Done(r *engine.Result) {
	text := v.describe(r)
	v.mu.Lock()
	defer v.mu.Unlock()
	v.shown = v.shown || text != ""
	fmt.Fprint(v.out, text)
}

func (v *plainView) Warn(s string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	fmt.Fprintf(v.a.err, "warning: %s\n", s)
}

func (v *plainView) close() {
	if v.shown && !v.done {
		fmt.Fprintln(v.out)
	}
	v.done = true
}

// describe returns the text for a finished task, log included; nothing for a
// task that needed no work.
func (v *plainView) describe(r *engine.Result) string {
	a := v.a
	switch r.Outcome {
	case decide.Current, decide.Cached, decide.NotStarted:
		if !a.verbose {
			return ""
		}
	}
	if v.quiet && r.Outcome != decide.Failed {
		return ""
	}
	took := seconds(r.Timing.Took.Seconds())
	if r.Outcome == decide.Blocked || r.Outcome == decide.NotStarted {
		took = ""
	}
	line := fmt.Sprintf("  %s %s %9s   %s", a.outcome(r.Outcome), pad(r.Task.Addr(), 26), took, a.soft(why(r)))
	var b strings.Builder
	b.WriteString(strings.TrimRight(fit(line, v.wide), " ") + "\n")
	for _, f := range r.Drift {
		b.WriteString(fit("    "+f.Why, v.wide) + "\n" + fit("      "+f.Advice(), v.wide) + "\n")
	}
	if v.logs == "whole" && r.Outcome == decide.Ran || v.logs != "none" && v.logs != "live" && r.Outcome == decide.Failed {
		v.log(&b, r)
	}
	return b.String()
}

// fit clips a line that may contain colours.
func fit(s string, wide int) string {
	if wide <= 0 {
		return s
	}
	return ansiClip(s, wide)
}

const failureLines = 12

func (v *plainView) log(b *strings.Builder, r *engine.Result) {
	var lines []string
	for _, l := range tasklog.Parse(r.LogText) {
		lines = append(lines, l.Text)
	}
	if len(lines) == 0 {
		return
	}
	skipped := 0
	if v.logs == "failures" && len(lines) > failureLines {
		skipped = len(lines) - failureLines
		lines = lines[skipped:]
	}
	for _, l := range lines {
		b.WriteString(fit("    │ "+l, v.wide) + "\n")
	}
	if skipped > 0 {
		fmt.Fprintf(b, "    └ all %d lines: grayloft log %s\n", skipped+len(lines), r.Task.Addr())
	}
}

// why says why a task ran, or who made its outputs.
func why(r *engine.Result) string {
	var out string
	switch {
	case r.Outcome == decide.Failed && r.Message != "":
		return firstLine(r.Message)
	case r.Outcome == decide.Blocked, r.Outcome == decide.NotStarted:
		return r.Message
	case r.Reason != "":
		out = string(r.Reason) + some(r.Changes)
	case r.MadeBy != nil:
		out = fmt.Sprintf("built by %s at %s, %s", r.MadeBy.Name, r.MadeBy.Place, clock(r.MadeBy.At, time.Now()))
	}
	if r.Message != "" {
		out += "; " + r.Message
	}
	return out
}

func some(changes []key.Change) string {
	var out []string
	for _, c := range changes {
		if c.What == "" {
			continue
		}
		word := c.What
		if c.How == "new" || c.How == "gone" {
			word += " is " + c.How
		}
		out = append(out, word)
	}
	switch {
	case len(out) == 0:
		return ""
	case len(out) > 3:
		return fmt.Sprintf(": %s and %d more", strings.Join(out[:2], ", "), len(out)-2)
	}
	return ": " + strings.Join(out, ", ")
}

// terminalView shows a line per running task, and one for the whole run, below
// the finished ones.
type terminalView struct {
	*plainView
	prog   *tea.Program
	before func(*graph.Task) (float64, bool)
	ended  chan struct{}
	once   sync.Once
}

type startedMsg struct {
	task   string
	at     time.Time
	before float64 // its last duration in seconds; 0 if unknown
}
type doneMsg string
type tickMsg time.Time
type endMsg struct{}

func minutes(s float64) string { return fmt.Sprintf("%d:%02d", int(s)/60, int(s)%60) }

func newTerminalView(p *plainView, tasks []*graph.Task, jobs int, before func(*graph.Task) (float64, bool)) *terminalView {
	v := &terminalView{plainView: p, before: before, ended: make(chan struct{})}
	m := &progress{a: p.a, total: len(tasks), wide: p.wide, finished: map[string]bool{}, began: time.Now(), jobs: max(jobs, 1), expected: map[string]float64{}}
	for _, t := range tasks {
		m.expected[t.Addr()], _ = before(t)
	}
	v.prog = tea.NewProgram(m, tea.WithOutput(p.out), tea.WithInput(nil), tea.WithoutSignalHandler())
	go func() {
		defer close(v.ended)
		_, _ = v.prog.Run()
	}()
	return v
}

func (v *terminalView) Started(t *graph.Task, _ time.Duration, _ int) {
	took, _ := v.before(t)
	v.prog.Send(startedMsg{t.Addr(), time.Now(), took})
}

func (v *terminalView) Line(t *graph.Task, line string) {
	if v.logs == "live" {
		v.prog.Println(fit(t.Addr()+" │ "+line, v.wide))
	}
}

func (v *terminalView) Done(r *engine.Result) {
	text := v.describe(r)
	v.shown = v.shown || text != ""
	// Printed through the program, so that lines keep their order.
	if text != "" {
		v.prog.Println(strings.TrimRight(text, "\n"))
	}
	v.prog.Send(doneMsg(r.Task.Addr()))
}

func (v *terminalView) Warn(s string) { v.prog.Println(fit("warning: "+s, v.wide)) }

func (v *terminalView) close() {
	v.once.Do(func() {
		v.prog.Send(endMsg{})
		<-v.ended
		v.plainView.close()
	})
}

// progress is the part of the terminal that changes.
type progress struct {
	a        *app
	total    int
	wide     int
	began    time.Time
	running  []startedMsg
	finished map[string]bool
	jobs     int
	expected map[string]float64 // last durations of tasks, in seconds
	ending   bool
}

func tick() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

func (p *progress) Init() tea.Cmd { return tick() }

func (p *progress) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tickMsg:
		return p, tick()
	case tea.WindowSizeMsg:
		p.wide = m.Width
	case startedMsg:
		p.running = append(p.running, m)
	case doneMsg:
		p.finished[string(m)] = true
		for i, r := range p.running {
			if r.task == string(m) {
				p.running = append(p.running[:i], p.running[i+1:]...)
				break
			}
		}
	case endMsg:
		p.ending = true
		return p, tea.Quit
	}
	return p, nil
}

func (p *progress) View() string {
	if p.ending || p.total == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString("\n")
	for _, r := range p.running {
		line := fmt.Sprintf("  %s %s %8s", p.a.style.NewStyle().Foreground(tints[decide.Ran]).Render("▶"), pad(r.task, 36), minutes(time.Since(r.at).Seconds()))
		if r.before >= 1 {
			line += p.a.soft(" of about " + minutes(r.before))
		}
		fmt.Fprintf(&b, "%s\n", fit(line, p.wide))
	}
	const cells = 32
	full := cells * len(p.finished) / p.total
	bar := strings.Repeat("━", full) + p.a.soft(strings.Repeat("─", cells-full))
	fmt.Fprintf(&b, "  %s    %d of %d", bar, len(p.finished), p.total)
	if left := p.left(time.Now()); left >= 1 {
		fmt.Fprintf(&b, ", about %s left", inWords(left))
	}
	return b.String()
}

// settling is how long a run may look for tasks that need no work before the
// remaining time is shown.
const settling = time.Second

// left returns the expected remaining seconds: the remaining work divided by
// the number of jobs, and at least the rest of the longest running task.
func (p *progress) left(now time.Time) float64 {
	if now.Sub(p.began) < settling {
		return 0
	}
	work, longest := 0.0, 0.0
	for task, s := range p.expected {
		if !p.finished[task] {
			work += s
		}
	}
	for _, r := range p.running {
		gone := min(now.Sub(r.at).Seconds(), r.before)
		work -= gone
		longest = max(longest, r.before-gone)
	}
	return max(work/float64(p.jobs), longest)
}
