package checkout

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// PastRun is a run in this checkout: a line of JSON in .grayloft/history,
// version 2, followed by a checksum.
type PastRun struct {
	Version     int            `json:"v"`
	ID          string         `json:"run"`
	At          time.Time      `json:"at"`
	Commit      string         `json:"commit,omitempty"`
	Branch      string         `json:"branch,omitempty"`
	Asked       []string       `json:"requested"`
	OK          bool           `json:"ok"`
	Interrupted bool           `json:"interrupted,omitempty"`
	Seconds     float64        `json:"seconds"`
	Saved       float64        `json:"saved_seconds"`
	Cost        float64        `json:"cost_seconds"`
	Totals      map[string]int `json:"totals"`
	Tasks       []PastTask     `json:"tasks"` // without those that were current
}

// PastTask is the outcome of a task in a past run.
type PastTask struct {
	Task        string        `json:"task"`
	Outcome     string        `json:"outcome"`
	Reason      string        `json:"reason,omitempty"`
	Detail      []string      `json:"detail,omitempty"`
	Message     string        `json:"message,omitempty"`
	Key         digest.Digest `json:"key"`
	Ingredients digest.Digest `json:"ingredients"`
	Listing     digest.Digest `json:"listing"`
	Log         digest.Digest `json:"log"`
	Seconds     float64       `json:"seconds"`
	MadeBy      string        `json:"made_by,omitempty"` // "name at place", if somebody else made it

	Saved        float64  `json:"saved_seconds,omitempty"`
	FetchSeconds float64  `json:"fetch_seconds,omitempty"`
	BytesIn      int64    `json:"bytes_in,omitempty"`
	Changed      []string `json:"changed,omitempty"`      // inputs that changed, as far as the record of the run names them
	SameOutputs  *bool    `json:"same_outputs,omitempty"` // as in the result that its inputs were compared with
}

const (
	historyVersion = 2
	historyBytes   = 4 << 20 // when the file exceeds this, its older half is dropped
)

// Of returns the outcome of a task in the run.
func (p *PastRun) Of(task string) (PastTask, bool) {
	for _, t := range p.Tasks {
		if t.Task == task {
			return t, true
		}
	}
	return PastTask{}, false
}

func (s *State) historyFile() string { return filepath.Join(s.dir, "history") }

// Remember adds a run to the history of this checkout.
func (s *State) Remember(p PastRun) error {
	p.Version = historyVersion
	line, err := json.Marshal(p)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	release, _, err := lock.Take(ctx, filepath.Join(s.dir, "locks", "history"))
	if err != nil {
		return fmt.Errorf("recording the run: %w", err)
	}
	defer release()
	f, err := os.OpenFile(s.historyFile(), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err != nil {
		return fmt.Errorf("recording the run: %w", err)
	}
	// The line feed comes first, so that a line that a crash cut off ends
	// there.
	_, err = f.Write(append([]byte("\n"), statefile.SealLine(line)...))
	info, serr := f.Stat()
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return fmt.Errorf("recording the run: %w", err)
	}
	if serr == nil && info.Size() > historyBytes {
		return s.shortenHistory()
	}
	return nil
}

func (s *State) shortenHistory() error {
	data, err := os.ReadFile(s.historyFile())
	if err != nil {
		return err
	}
	half := data[len(data)/2:]
	_, rest, _ := bytes.Cut(half, []byte("\n"))
	return statefile.Write(s.historyFile(), rest)
}

// History returns the runs in this checkout, newest first. It skips lines that
// are damaged or of another version.
func (s *State) History() ([]PastRun, error) {
	data, err := os.ReadFile(s.historyFile())
	if err != nil && !os.IsNotExist(err) {
		return nil, fmt.Errorf("reading the history of this checkout: %w", err)
	}
	var out []PastRun
	for line := range bytes.Lines(data) {
		text, whole := statefile.OpenLine(line)
		var p PastRun
		if whole && json.Unmarshal(text, &p) == nil && p.Version == historyVersion {
			out = append(out, p)
		}
	}
	slices.Reverse(out)
	return out, nil
}
