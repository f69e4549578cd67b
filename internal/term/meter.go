package term

import (
	"fmt"
	"os"
	"strings"
	"sync"

	"golang.org/x/term"
)

// bar draws how much of a total is done.
func (sc *Screen) bar(done, total int) string {
	const cells = 32
	full := cells * done / max(total, 1)
	return strings.Repeat("━", full) + sc.Soft(strings.Repeat("─", cells-full))
}

// Meter shows on one line of the terminal how far some work is. Where there is no
// terminal it shows nothing. It is safe for concurrent use.
type Meter struct {
	sc    *Screen
	to    *os.File // nil: nothing is shown
	words string
	total int
	mu    sync.Mutex
	done  int
}

// NewMeter starts a meter of so many steps.
func (sc *Screen) NewMeter(words string, total int) *Meter {
	m := &Meter{sc: sc, words: words, total: total}
	if f, ok := raw(sc.Err).(*os.File); ok && term.IsTerminal(int(f.Fd())) && !sc.Quiet && total > 0 {
		m.to = f
		m.draw()
	}
	return m
}

// Step counts one step as done.
func (m *Meter) Step() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done++
	if m.to != nil {
		m.draw()
	}
}

func (m *Meter) draw() {
	fmt.Fprintf(m.to, "\r\x1b[K%s  %s  %d of %d", m.words, m.sc.bar(m.done, m.total), m.done, m.total)
}

// Finish removes the line.
func (m *Meter) Finish() {
	if m.to != nil {
		fmt.Fprint(m.to, "\r\x1b[K")
	}
}
