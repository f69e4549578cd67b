package runner

import (
	"bytes"
	"context"
	"strings"
	"sync"
	"time"
	"unicode"

	"grayloft.example/grayloft/internal/protocol"
)

const (
	sendEach   = 300 * time.Millisecond // at most so often
	mostQueued = 20_000                 // lines that wait to be sent
	lastTry    = 15 * time.Second       // for what is left at the end
	linesCut   = "… lines are missing here: the service could not be reached"
)

// output sends what a job prints to the service, in lines.
type output struct {
	send func(ctx context.Context, l protocol.JobLines) error

	mu     sync.Mutex
	rest   []byte   // of a line that has not ended
	queued []string // lines that were not sent
	isCut  bool     // the last of them says so

	sent  int // lines; the sender's own
	stop  chan struct{}
	ended chan struct{}
}

func (r *Runner) output(w protocol.Work) *output {
	o := &output{stop: make(chan struct{}), ended: make(chan struct{})}
	o.send = func(ctx context.Context, l protocol.JobLines) error {
		l.Attempt = w.Attempt
		return r.service.SendJobLines(ctx, w.Job, l)
	}
	go o.run()
	return o
}

// Write implements [io.Writer].
func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.rest = append(o.rest, p...)
	for {
		line, after, ok := bytes.Cut(o.rest, []byte("\n"))
		if !ok && len(o.rest) > protocol.MaxLineBytes {
			line, after, ok = o.rest[:protocol.MaxLineBytes], o.rest[protocol.MaxLineBytes:], true
		}
		if !ok {
			return len(p), nil
		}
		o.queue(string(line))
		o.rest = bytes.Clone(after)
	}
}

func (o *output) queue(line string) {
	switch {
	case len(o.queued) < mostQueued:
		o.queued, o.isCut = append(o.queued, cleanLine(line)), false
	case !o.isCut:
		o.queued, o.isCut = append(o.queued, linesCut), true
	}
}

// cleanLine leaves out what is not text: whoever looks at it does so in a terminal.
func cleanLine(line string) string {
	line = strings.ToValidUTF8(line[:min(len(line), protocol.MaxLineBytes)], "\uFFFD")
	line = strings.Map(func(c rune) rune {
		if unicode.IsControl(c) && c != '\t' {
			return -1
		}
		return c
	}, line)
	return strings.ToValidUTF8(line[:min(len(line), protocol.MaxLineBytes)], "")
}

// run sends lines until the output is closed.
func (o *output) run() {
	defer close(o.ended)
	each := time.NewTicker(sendEach)
	defer each.Stop()
	for {
		select {
		case <-each.C:
			ctx, cancel := context.WithTimeout(context.Background(), lastTry)
			_ = o.flush(ctx) // what could not be sent is sent with the next lines
			cancel()
		case <-o.stop:
			o.finish()
			return
		}
	}
}

// finish sends the rest, for a while.
func (o *output) finish() {
	o.mu.Lock()
	if len(o.rest) > 0 {
		o.queue(string(o.rest))
		o.rest = nil
	}
	o.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), lastTry)
	defer cancel()
	for {
		err := o.flush(ctx)
		if err == nil || isRefused(err) || !pause(ctx, sendEach) {
			return
		}
	}
}

// flush sends the lines that wait.
func (o *output) flush(ctx context.Context) error {
	for {
		o.mu.Lock()
		lines := o.queued[:min(len(o.queued), protocol.MaxChunkLines)]
		o.mu.Unlock()
		if len(lines) == 0 {
			return nil
		}
		if err := o.send(ctx, protocol.JobLines{First: o.sent, Lines: lines}); err != nil {
			return err
		}
		o.mu.Lock()
		o.queued = o.queued[len(lines):]
		o.mu.Unlock()
		o.sent += len(lines)
	}
}

// close sends the rest and ends the output.
func (o *output) close() {
	close(o.stop)
	<-o.ended
}
