// Package tasklog is the form in which the output of tasks is kept.
//
// # Format, version 1
//
// The line "grayloft-log 1", then a row for each line of output: milliseconds
// since the task began, a tab, the line. A last line that was not ended is
// kept as if it were. Of a log that is too long, the beginning and the end are
// kept, with a line between them that says so.
package tasklog

import (
	"bytes"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/amount"
)

const head = "grayloft-log 1\n"

// Max is how many bytes of a task's output are kept: half of them from its
// beginning, half from its end, where a failure is reported.
const Max = 16 << 20

// longestLine is where a line without an end is divided.
const longestLine = Max / 16

// Log collects what a task prints, with times. It is safe for concurrent use.
type Log struct {
	// Mask are texts that must not appear in the log: each is replaced, line by
	// line.
	Mask []string
	Live func(line string) // called for each line as it arrives, if set

	now   func() time.Time
	mu    sync.Mutex
	began time.Time
	first bytes.Buffer // the header and the first rows
	last  ending       // rows for which there was no room
	line  []byte
	row   []byte // of the last line
	at    time.Duration
}

// New starts a log. Times are relative to now.
func New(now func() time.Time, live func(line string)) *Log {
	l := &Log{Live: live, now: now, began: now()}
	l.first.WriteString(head)
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
			if len(l.line) > longestLine {
				l.divide()
			}
			break
		}
		l.line = append(l.line, rest[:i]...)
		l.end()
		rest = rest[i+1:]
	}
	return len(p), nil
}

// divide ends a line early, but not within a text that must be masked.
func (l *Log) divide() {
	l.line = masked(l.line, l.Mask)
	n := len(l.line)
	for part := range parts(l.Mask) {
		n = min(n, len(l.line)-len(part)+1)
	}
	if n <= 0 {
		return
	}
	rest := bytes.Clone(l.line[n:])
	l.line = l.line[:n]
	l.end()
	l.line = append(l.line, rest...)
}

func (l *Log) end() {
	l.line = masked(l.line, l.Mask)
	if l.Live != nil {
		l.Live(string(l.line))
	}
	l.row = append(strconv.AppendInt(l.row[:0], l.at.Milliseconds(), 10), '\t')
	l.row = append(append(l.row, l.line...), '\n')
	if len(l.last.rows) == 0 && l.first.Len()+len(l.row) <= Max/2 {
		l.first.Write(l.row)
	} else {
		l.last.add(l.row, l.at)
	}
	l.line = l.line[:0]
}

// ending holds the last rows of a log.
type ending struct {
	rows []byte
	left int           // rows that were dropped
	full time.Duration // when the first row came
}

func (e *ending) add(row []byte, at time.Duration) {
	if len(e.rows) == 0 {
		e.full = at
	}
	if e.rows = append(e.rows, row...); len(e.rows) > Max { // twice what is kept, so that few are moved
		e.trim()
	}
}

// trim drops the first rows, so that at most half of Max is left.
func (e *ending) trim() {
	over := len(e.rows) - Max/2
	if over <= 0 {
		return
	}
	over += bytes.IndexByte(e.rows[over-1:], '\n')
	e.left += bytes.Count(e.rows[:over], []byte("\n"))
	e.rows = append(e.rows[:0], e.rows[over:]...)
}

// bytes are a row that says what is missing, if anything is, and the last rows.
func (e *ending) bytes() []byte {
	e.trim()
	if e.left == 0 {
		return e.rows
	}
	return append(fmt.Appendf(nil, "%d\t[Gray Loft left out %s here: it keeps the first and the last %d MB of a log]\n",
		e.full.Milliseconds(), amount.Count(e.left, "line", "lines"), Max>>21), e.rows...)
}

// Masked replaces a masked text in a log.
const Masked = "•••"

// Shortest is the minimum length, in bytes, of a text that is masked: a shorter
// one would occur in many words by chance.
const Shortest = 4

// Mask replaces each line of the secret texts in another text.
func Mask(text string, secrets []string) string { return string(masked([]byte(text), secrets)) }

func masked(line []byte, texts []string) []byte {
	for part := range parts(texts) {
		line = bytes.ReplaceAll(line, []byte(part), []byte(Masked))
	}
	return line
}

// parts are the lines of the texts that are long enough to be masked.
func parts(texts []string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, text := range texts {
			for part := range strings.SplitSeq(text, "\n") {
				if len(part) >= Shortest && !yield(part) {
					return
				}
			}
		}
	}
}

// Bytes ends the log and returns it.
func (l *Log) Bytes() []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.line) > 0 {
		l.end()
	}
	return slices.Concat(l.first.Bytes(), l.last.bytes())
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
