package term

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"

	"grayloft.example/grayloft/internal/core/decide"
)

// progress is the changing part of the terminal: the running tasks, and a bar.
type progress struct {
	sc       *Screen
	total    int
	wide     int
	began    time.Time
	running  []startedMsg
	waiting  []waitingMsg // tasks that run elsewhere
	finished map[string]bool
	jobs     int
	expected map[string]float64 // last durations of tasks, in seconds
	ending   bool
}

// The messages that the view sends.
type (
	startedMsg struct {
		task    string
		at      time.Time
		seconds float64 // its last duration; 0 if unknown
	}
	waitingMsg struct{ task, text string }
	doneMsg    string
	tickMsg    time.Time
	endMsg     struct{}
)

func tick() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// Init implements [tea.Model].
func (p *progress) Init() tea.Cmd { return tick() }

// Update implements [tea.Model].
func (p *progress) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tickMsg:
		return p, tick()
	case tea.WindowSizeMsg:
		p.wide = m.Width
	case startedMsg:
		p.remove(m.task)
		p.running = append(p.running, m)
	case waitingMsg:
		p.wait(m)
	case doneMsg:
		p.finished[string(m)] = true
		p.remove(string(m))
	case endMsg:
		p.ending = true
		return p, tea.Quit
	}
	return p, nil
}

// wait shows a task that runs elsewhere, or what is new about it, in its place.
func (p *progress) wait(m waitingMsg) {
	if i := slices.IndexFunc(p.waiting, func(w waitingMsg) bool { return w.task == m.task }); i >= 0 {
		p.waiting[i] = m
		return
	}
	p.remove(m.task)
	p.waiting = append(p.waiting, m)
}

func (p *progress) remove(task string) {
	p.running = slices.DeleteFunc(p.running, func(m startedMsg) bool { return m.task == task })
	p.waiting = slices.DeleteFunc(p.waiting, func(m waitingMsg) bool { return m.task == task })
}

// View implements [tea.Model].
func (p *progress) View() string {
	if p.ending || p.total == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString("\n")
	for _, r := range p.running {
		line := fmt.Sprintf("  %s %s %8s", p.sc.Tint(decide.Ran, "▷"), Pad(r.task, 36), minutes(time.Since(r.at).Seconds()))
		if r.seconds >= 1 {
			line += p.sc.Soft(" of about " + minutes(r.seconds))
		}
		fmt.Fprintf(&b, "%s\n", Fit(line, p.wide))
	}
	for _, w := range p.waiting {
		fmt.Fprintln(&b, Fit(waitingLine(p.sc, w.task, w.text), p.wide))
	}
	fmt.Fprintf(&b, "  %s    %d of %d", p.sc.bar(len(p.finished), p.total), len(p.finished), p.total)
	if left := p.left(time.Now()); left >= 1 {
		fmt.Fprintf(&b, ", about %s left", InWords(left))
	}
	return b.String()
}

func minutes(s float64) string { return fmt.Sprintf("%d:%02d", int(s)/60, int(s)%60) }

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
		gone := min(now.Sub(r.at).Seconds(), r.seconds)
		work -= gone
		longest = max(longest, r.seconds-gone)
	}
	return max(work/float64(p.jobs), longest)
}
