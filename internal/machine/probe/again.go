package probe

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/graph"
)

// asking is a probe that is being asked again. Those who came before it was shares its answer.
type asking struct {
	began time.Time
	done  chan struct{}
	text  string
	moved bool // something that it depends on changed since the run began
	err   error
}

// Changed says which probe of a task may have had another answer since the run asked it, or has one
// now; "" if none. It is called when the task has ended: a toolchain or installed packages may have been
// switched while it ran.
func (p *Prober) Changed(ctx context.Context, t *graph.Task) string {
	ended := time.Now()
	items := t.Decl.Probes.Items
	whys := make([]string, len(items))
	var wg sync.WaitGroup
	for i, item := range items { // together, as they were asked first
		wg.Go(func() {
			if why := p.changed(ctx, Of(p.Graph, item.Text, t.Project), ended); why != "" {
				whys[i] = fmt.Sprintf("%s while it ran: the probe %s", why, item.Text)
			}
		})
	}
	wg.Wait()
	return cmp.Or(whys...)
}

const (
	anotherAnswer = "what it runs with changed"
	maybeAnother  = "what it runs with may have changed"
)

func (p *Prober) changed(ctx context.Context, q Question, ended time.Time) string {
	first := p.known(q)
	if first.at.IsZero() {
		return maybeAnother
	}
	if first.depends != nil && first.depends.hold(now) {
		return ""
	}
	again := p.askAgain(ctx, q, first, ended)
	switch {
	case again.err != nil:
		return maybeAnother + " (" + again.err.Error() + ")"
	case again.text != first.text:
		return anotherAnswer
	case again.moved, first.depends != nil: // and perhaps back
		return maybeAnother
	}
	return ""
}

// tick is how long before a moment a status must have changed to count as settled then. What changed
// once, just before the first answer, is in that answer or differs from the second one.
const tick = 20 * time.Millisecond

// askAgain asks a probe again, after a moment. One answer is for all whose tasks ended before the probe
// began.
func (p *Prober) askAgain(ctx context.Context, q Question, first given, ended time.Time) *asking {
	for {
		p.mu.Lock()
		if p.again == nil {
			p.again = map[Question]*asking{}
		}
		running := p.again[q]
		mine := &asking{began: time.Now(), done: make(chan struct{})}
		if running == nil {
			p.again[q] = mine
		}
		p.mu.Unlock()
		if running == nil {
			p.carryOut(ctx, q, first, mine)
			return mine
		}
		select {
		case <-running.done:
			if running.began.After(ended) {
				return running
			}
		case <-ctx.Done():
			return &asking{err: ctx.Err()}
		}
	}
}

func (p *Prober) carryOut(ctx context.Context, q Question, first given, mine *asking) {
	fresh := &Prober{Graph: p.Graph, Env: p.Env, Root: p.Root, Run: p.Run, Kill: p.Kill}
	g, err := fresh.run(ctx, q, !first.wasTraced)
	if errors.Is(g.unknown, errMoving) { // it may have changed before the run began: a later look tells
		select {
		case <-ctx.Done():
		case <-time.After(tick):
			g, err = fresh.run(ctx, q, true)
		}
	}
	mine.text, mine.err = g.text, err
	if err == nil && g.text == first.text && !first.wasTraced {
		mine.moved = errors.Is(g.unknown, errMoving) || g.depends != nil && !g.depends.settledBefore(first.at.Add(tick))
		if !mine.moved {
			p.keep(q, given{text: first.text, at: first.at, depends: g.depends, wasTraced: true})
		}
	}
	p.mu.Lock()
	delete(p.again, q)
	p.mu.Unlock()
	close(mine.done)
}

// settledBefore tells whether nothing changed since a moment.
func (d depends) settledBefore(at time.Time) bool {
	for _, x := range d {
		if _, settled := x.look(at); !settled {
			return false
		}
	}
	return true
}
