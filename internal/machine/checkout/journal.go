// Package checkout manages the state that Gray Loft keeps in a checkout, below
// .grayloft: the last outcome of each task, past runs, and locks.
package checkout

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// Dir is the directory's name.
const Dir = ".grayloft"

// Record is the last outcome of a task in this checkout.
type Record struct {
	Version     int           `json:"v"`
	Task        string        `json:"task"`
	Key         digest.Digest `json:"key"`
	Ingredients digest.Digest `json:"ingredients"`
	Listing     digest.Digest `json:"listing"`
	Log         digest.Digest `json:"log"`
	Failed      bool          `json:"failed,omitempty"`
	Run         string        `json:"run"`
	At          time.Time     `json:"at"`
	Took        float64       `json:"took"`            // seconds of its last real execution, on any machine
	Here        float64       `json:"here,omitempty"`  // seconds of its last successful execution in this checkout
	Fetch       bool          `json:"fetch,omitempty"` // always fetch instead of running: a run here gave different outputs
	// Unkept says why the outputs could not be kept: then nobody knows what they are, and there is no
	// listing. Left is a listing of those files that are certainly the task's own, for clearing alone.
	Unkept string        `json:"unkept,omitempty"`
	Left   digest.Digest `json:"left,omitzero"`
}

const recordVersion = 2

// State is the state directory of one checkout.
type State struct {
	Root string // of the repository
	// Barred, if set, returns an error for a task whose lock this process would wait for without end.
	Barred func(task string) error
	dir    string

	mu      sync.Mutex
	records map[string]Record
	lines   int
	journal *os.File    // nil until something is appended
	opened  os.FileInfo // of the journal
	writing lock.Kept
	closed  bool
}

// Open creates the directory if necessary, hides it from git, and reads the
// journal.
func Open(root string) (*State, error) {
	if info, err := os.Lstat(filepath.Join(root, Dir)); err == nil && !info.IsDir() {
		return nil, fmt.Errorf("%s in the checkout is not a directory (a link is not followed): delete it, and take it out of git "+
			"if it is there", Dir)
	}
	s := &State{Root: root, dir: filepath.Join(root, Dir), records: map[string]Record{}}
	s.writing.File = filepath.Join(s.dir, "locks", journalLock)
	for _, d := range []string{"locks", "aside", "displaced"} {
		if err := os.MkdirAll(filepath.Join(s.dir, d), 0o755); err != nil {
			return nil, fmt.Errorf("opening .grayloft in the checkout: %w", err)
		}
	}
	ignore := filepath.Join(s.dir, ".gitignore")
	if _, err := os.Stat(ignore); err != nil {
		if err := statefile.Write(ignore, []byte("*\n")); err != nil {
			return nil, fmt.Errorf("opening .grayloft in the checkout: %w", err)
		}
	}
	if err := s.Reload(); err != nil {
		return nil, err
	}
	return s, nil
}

func (s *State) file() string { return filepath.Join(s.dir, "journal") }

// Journal is the path of the file with the outcomes of tasks.
func (s *State) Journal() string { return s.file() }

// CurrentFile is the path of the file with the fingerprints of tasks that were
// current in the last run.
func (s *State) CurrentFile() string { return filepath.Join(s.dir, "current") }

// DigestFile is the name of the file, in [Dir], with remembered digests.
const DigestFile = "digests"

// DigestFile is the path of the file with remembered digests.
func (s *State) DigestFile() string { return filepath.Join(s.dir, DigestFile) }

// Reload reads the journal again, because another process may have written to
// it.
func (s *State) Reload() error {
	records, lines, err := readJournal(s.file())
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.records) == 0 {
		s.records = records
	} else {
		maps.Copy(s.records, records)
	}
	s.lines = lines
	return nil
}

// readJournal returns the last record of each task, and the number of lines. It
// skips lines that are damaged (cut off by a crash) or of another version.
func readJournal(file string) (records map[string]Record, lines int, err error) {
	data, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return nil, 0, fmt.Errorf("reading the journal of earlier runs: %w", err)
	}
	records = map[string]Record{}
	for rest := bytes.TrimRight(data, "\n"); len(rest) > 0; rest = bytes.TrimRight(rest, "\n") {
		from := bytes.LastIndexByte(rest, '\n') + 1
		line := rest[from:]
		rest = rest[:from]
		lines++
		if _, ok := records[string(taskOf(line))]; ok {
			continue // a later line replaces it
		}
		text, whole := statefile.OpenLine(line)
		if !whole {
			continue
		}
		if r, ok := readRecord(text); ok {
			if _, later := records[r.Task]; !later {
				records[r.Task] = r
			}
		}
	}
	return records, lines, nil
}

// Last returns the last outcome of a task.
func (s *State) Last(task string) (Record, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, ok := s.records[task]
	return r, ok
}

// Note appends the outcome of a task to the journal.
func (s *State) Note(r Record) error {
	r.Version = recordVersion
	s.mu.Lock()
	defer s.mu.Unlock()
	before := s.records[r.Task] // keep what earlier records learned
	r.Fetch = r.Fetch || before.Fetch
	if r.Here == 0 {
		r.Here = before.Here
	}
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	s.records[r.Task] = r
	s.lines++
	line = append(append([]byte("\n"), statefile.SealLine(line)...), '\n')
	err = s.writing.Hold(func() error { return s.append(line) })
	if err != nil {
		return fmt.Errorf("recording the outcome of %s: %w", r.Task, err)
	}
	return nil
}

// journalLock is the file whose lock protects the journal: a compaction replaces
// the file, so whoever appends must not have the old one open.
const journalLock = "journal"

// append writes to the journal, while its lock is held.
func (s *State) append(line []byte) error {
	if s.journal != nil && !s.isCurrent() {
		s.journal.Close()
		s.journal = nil
	}
	if s.journal == nil {
		f, err := os.OpenFile(s.file(), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
		if err != nil {
			return err
		}
		if s.opened, err = f.Stat(); err != nil {
			f.Close()
			return err
		}
		s.journal = f
	}
	_, err := s.journal.Write(line)
	return err
}

// isCurrent tells whether the open file is still the journal.
func (s *State) isCurrent() bool {
	now, err := os.Stat(s.file())
	return err == nil && os.SameFile(s.opened, now)
}

// Close closes the journal, after compacting it if it has grown long.
func (s *State) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil
	}
	s.closed = true
	defer s.writing.Close()
	var err error
	if s.journal != nil {
		err = s.journal.Close()
		s.journal = nil
	}
	if s.lines < 2*len(s.records)+1000 {
		return err
	}
	return errors.Join(err, s.writing.Hold(s.compact))
}

// compact rewrites the journal with the last record of each task, while its lock
// is held: from the file, because other processes have appended to it.
func (s *State) compact() error {
	records, _, err := readJournal(s.file())
	if err != nil {
		return err
	}
	var b bytes.Buffer
	for _, task := range slices.Sorted(maps.Keys(records)) {
		line, err := json.Marshal(records[task])
		if err != nil {
			return err
		}
		b.Write(append(statefile.SealLine(line), '\n'))
	}
	return statefile.Write(s.file(), b.Bytes())
}
