package remote

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"grayloft.example/grayloft/internal/protocol"
)

const (
	growEvery = 500 * time.Millisecond // how often lines of running tasks are sent
	growLimit = 4 << 20                // bytes that wait of one task; a service that is slower gets its log at the end only
	growEach  = 256 << 10              // bytes of one task in a request
)

// growing sends what running tasks print, so that others can follow it. What it
// cannot send is not lost: the whole log is sent when its task ends.
type growing struct {
	c   *Client
	run string

	mu    sync.Mutex
	tasks map[string]*grown
	end   chan struct{}
	begin sync.Once // with the first line: a run in which nothing is printed sends nothing
	once  sync.Once
}

// grown is what a task printed and the service does not have.
type grown struct {
	began time.Time
	first int // number of the first of lines
	lines []protocol.LogLine
	bytes int
	given bool // no more is sent
}

func grow(c *Client, run string) *growing {
	return &growing{c: c, run: run, tasks: map[string]*grown{}, end: make(chan struct{})}
}

func (g *growing) started(task string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.tasks[task] = &grown{began: time.Now()}
}

// line adds a line. It is called for each line of each task, so it does little.
func (g *growing) line(task, text string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	t := g.tasks[task]
	if t == nil || t.given {
		return
	}
	if t.bytes > growLimit {
		t.given, t.lines = true, nil
		return
	}
	g.begin.Do(func() { go g.send() })
	text = sendable(text)
	t.lines = append(t.lines, protocol.LogLine{At: time.Since(t.began).Round(time.Millisecond).Seconds(), Text: text})
	t.bytes += len(text)
}

// sendable shortens a line, and leaves out what the service does not take.
func sendable(text string) string {
	text = strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "")
	if len(text) <= protocol.MaxLineBytes {
		return text
	}
	cut := protocol.MaxLineBytes - len("…")
	for !utf8.RuneStart(text[cut]) {
		cut--
	}
	return text[:cut] + "…"
}

func (g *growing) done(task string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.tasks, task)
}

func (g *growing) stop() { g.once.Do(func() { close(g.end) }) }

func (g *growing) send() {
	tick := time.NewTicker(growEvery)
	defer tick.Stop()
	ctx, cancel := context.WithCancel(inBackground(context.Background()))
	defer cancel()
	for {
		select {
		case <-g.end:
			return
		case <-tick.C:
		}
		if g.c.readsOnly() || !g.flush(ctx) {
			g.stop()
		}
	}
}

// flush sends what waits, and tells whether to go on. After a request without an
// answer it tries again later.
func (g *growing) flush(ctx context.Context) bool {
	for {
		chunks, more := g.waiting()
		if len(chunks) == 0 {
			return true
		}
		var answer protocol.LogAnswer
		err := g.c.try(ctx, http.MethodPost, "runs/"+url.PathEscape(g.run)+"/logs", protocol.LogChunks{Chunks: chunks}, &answer)
		var refused refusal
		if err != nil {
			return !errors.As(err, &refused) || refused.Status >= 500 || refused.Status == http.StatusTooManyRequests
		}
		if moved := g.took(answer.Have); !moved || !more {
			return true
		}
	}
}

// waiting returns lines to send, and tells whether there are more of them.
func (g *growing) waiting() (chunks []protocol.LogChunk, more bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for name, t := range g.tasks {
		if len(t.lines) == 0 || len(chunks) == protocol.MaxChunks {
			more = more || len(t.lines) > 0
			continue
		}
		n, bytes := 0, 0
		for n < len(t.lines) && n < protocol.MaxChunkLines && bytes < growEach/min(len(g.tasks), 8) {
			bytes += len(t.lines[n].Text)
			n++
		}
		more = more || n < len(t.lines)
		chunks = append(chunks, protocol.LogChunk{Task: name, First: t.first, Lines: t.lines[:n:n]})
	}
	return chunks, more
}

// took forgets lines that the service has.
func (g *growing) took(have map[string]int) (moved bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for name, n := range have {
		t := g.tasks[name]
		switch {
		case t == nil:
		case n < 0:
			t.given, t.lines = true, nil
		case n > t.first && n <= t.first+len(t.lines):
			for _, l := range t.lines[:n-t.first] {
				t.bytes -= len(l.Text)
			}
			t.lines, t.first, moved = t.lines[n-t.first:], n, true
		}
	}
	return moved
}
