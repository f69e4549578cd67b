package term

import (
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/lipgloss"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
)

// liveView shows a line per running task, and one for the whole run, below the
// finished ones. After it is closed, it prints like a plain view.
type liveView struct {
	*plainView
	program *tea.Program
	seconds func(*graph.Task) (float64, bool)
	ended   chan struct{} // closed when the program has ended
	closed  bool
}

func newLiveView(p *plainView, o ViewOptions) *liveView {
	v := &liveView{plainView: p, seconds: o.Seconds, ended: make(chan struct{})}
	m := &progress{
		sc:       p.sc,
		total:    len(o.Tasks),
		wide:     p.wide,
		finished: map[string]bool{},
		began:    time.Now(),
		jobs:     max(o.Jobs, 1),
		expected: map[string]float64{},
	}
	for _, t := range o.Tasks {
		m.expected[t.Addr()], _ = o.Seconds(t)
	}
	v.program = tea.NewProgram(m, tea.WithOutput(raw(p.out)), tea.WithInput(nil), tea.WithoutSignalHandler())
	go func() {
		defer close(v.ended)
		_, _ = v.program.Run()
	}()
	return v
}

// Started implements [engine.Observer].
func (v *liveView) Started(t *graph.Task, _ time.Duration, _ int) {
	took, _ := v.seconds(t)
	v.program.Send(startedMsg{t.Addr(), time.Now(), took})
}

// Waiting implements [engine.Observer].
func (v *liveView) Waiting(t *graph.Task, place string, left float64) {
	v.program.Send(waitingMsg{t.Addr(), runningOn(place, left)})
}

// Elsewhere implements [engine.Observer].
func (v *liveView) Elsewhere(t *graph.Task, line string) { v.Line(t, line) }

// Line implements [engine.Observer].
func (v *liveView) Line(t *graph.Task, line string) {
	if v.logs == LogsLive {
		lead := t.Addr() + " │ "
		lines := WrapLog(v.sc.PrintableLog(line), v.room(lipgloss.Width(lead)), longLine)
		v.print(lead + strings.Join(lines, "\n"+lead))
	}
}

// Done implements [engine.Observer].
func (v *liveView) Done(r *engine.Result) {
	if text := v.describe(r); text != "" {
		v.print(strings.TrimRight(text, "\n"))
	}
	v.program.Send(doneMsg(r.Task.Addr()))
}

// Warn implements [engine.Observer].
func (v *liveView) Warn(s string) {
	v.print(strings.Join(Wrap("warning: "+Printable(s), v.room(2)), "\n  "))
}

// print prints lines above the changing part, in order. The program gets them at once, not by a
// command that it would have to carry out, and that it forgets if the run ends meanwhile.
func (v *liveView) print(text string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.shown = true
	if v.closed {
		_, _ = v.out.Write([]byte(text + "\n"))
		return
	}
	v.program.Send(tea.Println(text)())
}

// Close implements [View].
func (v *liveView) Close() {
	v.mu.Lock()
	closed := v.closed
	v.closed = true
	v.mu.Unlock()
	if !closed {
		v.program.Send(endMsg{})
	}
	<-v.ended
	v.plainView.Close()
}
