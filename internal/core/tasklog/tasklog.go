// Package tasklog is the form in which the output of tasks is kept.
//
// # Format, version 1
//
// The line "grayloft-log 1", then a row for each line of output: milliseconds
// since the task began, a tab, the line. A last line that was not ended is
// kept as if it were.
package tasklog

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"
)

const head = "grayloft-log 1\n"

// Max is how many bytes of a task's output are kept.
const Max = 16 << 20

// Log collects what a task prints, with times. It is safe for concurrent use.
type Log struct {
	// Mask are texts that must not appear in the log: each is replaced, line by
	// line.
	Mask []string
	Live func(line string) // called for each line as it arrives, if set

	now   func() time.Time
	mu    sync.Mutex
	began time.Time
	buf   bytes.Buffer
	line  []byte
	at    time.Duration
	lines int
	cut   bool
}

// New starts a log. Times are relative to now.
func New(now func() time.Time, live func(line string)) *Log {
	l := &Log{Live: live, now: now, began: now()}
	l.buf.WriteString(head)
	return l
}

// Write takes output as it comes.
func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for rest := p; len(rest) > 0; {
		if len(l.line) == 0 {
			l.at = l.now().Sub(l.began)
		}
		i := bytes.IndexByte(rest, '\n')
		if i < 0 {
			l.line = append(l.line, rest...)
			if len(l.line) > Max/16 {
				l.end()
			}
			break
		}
		l.line = append(l.line, rest[:i]...)
		l.end()
		rest = rest[i+1:]
	}
	return len(p), nil
}

func (l *Log) end() {
	l.lines++
	l.line = masked(l.line, l.Mask)
	if l.Live != nil {
		l.Live(string(l.line))
	}
	switch {
	case l.cut:
	case l.buf.Len()+len(l.line) > Max:
		l.cut = true
		fmt.Fprintf(&l.buf, "%d\t[Gray Loft kept the first %d MB of this log]\n", l.at.Milliseconds(), Max>>20)
	default:
		fmt.Fprintf(&l.buf, "%d\t", l.at.Milliseconds())
		l.buf.Write(l.line)
		l.buf.WriteByte('\n')
	}
	l.line = l.line[:0]
}

// Masked replaces a masked text in a log.
const Masked = "•••"

// Shortest is the minimum length, in bytes, of a text that is masked: a shorter
// one would occur in many words by chance.
const Shortest = 4

// Mask replaces each line of the secret texts in another text.
func Mask(text string, secrets []string) string { return string(masked([]byte(text), secrets)) }

func masked(line []byte, texts []string) []byte {
	for _, text := range texts {
		for part := range strings.SplitSeq(text, "\n") {
			if len(part) >= Shortest {
				line = bytes.ReplaceAll(line, []byte(part), []byte(Masked))
			}
		}
	}
	return line
}

// Bytes ends the log and returns it.
func (l *Log) Bytes() []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.line) > 0 {
		l.end()
	}
	return bytes.Clone(l.buf.Bytes())
}

// Line is one line of a kept log.
type Line struct {
	At   time.Duration `json:"at"`
	Text string        `json:"text"`
}

// Parse reads a kept log. Any other text is returned as lines without times.
func Parse(b []byte) []Line {
	body, ok := bytes.CutPrefix(b, []byte(head))
	var out []Line
	for line := range bytes.Lines(body) {
		text := string(bytes.TrimSuffix(line, []byte("\n")))
		row := Line{Text: text}
		if ms, rest, cut := bytes.Cut([]byte(text), []byte("\t")); ok && cut {
			if n, err := strconv.ParseInt(string(ms), 10, 64); err == nil {
				row = Line{time.Duration(n) * time.Millisecond, string(rest)}
			}
		}
		out = append(out, row)
	}
	return out
}
