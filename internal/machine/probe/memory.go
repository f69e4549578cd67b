package probe

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// Files are the files of the checkout that probes may read.
type Files interface {
	// Paths returns all paths from the root, sorted.
	Paths() []string
	// Row returns the row of a path.
	Row(path string) (listing.Row, error)
}

// recall returns the remembered answer to a question, and the name under which
// to remember it: a digest of the program, PATH, and the files that the probe
// reads. The name is empty for a probe that must not be remembered.
func (p *Prober) recall(q Question, files Files) (answer, memoKey string) {
	declared := p.Graph.Repo.Probes[q.Probe]
	program := p.program(q)
	if !declared.Rememberable || program == "" {
		return "", ""
	}
	h := digest.New()
	_, _ = h.Write([]byte(memoVersion + program))
	for _, f := range files.Paths() {
		if len(declared.Reads) > 0 && declared.ReadsFile(q.Dir(), f) {
			row, err := files.Row(f)
			fmt.Fprintf(h, "%v %v ", row, err)
		}
	}
	memoKey = digest.From(h).String()
	b, err := os.ReadFile(filepath.Join(p.Memo, memoKey))
	if err != nil {
		return "", memoKey
	}
	text, _ := statefile.OpenLine(b) // a damaged one is asked again
	return string(text), memoKey
}

// memoVersion is of what is remembered: earlier versions had the beginning of long answers.
const memoVersion = "2 "

func (p *Prober) remember(memoKey, text string) {
	if os.MkdirAll(p.Memo, 0o755) == nil {
		_ = statefile.Write(filepath.Join(p.Memo, memoKey), statefile.SealLine([]byte(text)))
	}
}

// program identifies what the answer depends on in addition to files; empty if
// the program is not found.
func (p *Prober) program(q Question) string {
	run := p.Graph.Repo.Probes[q.Probe].Run
	search, _ := p.Env.Lookup("PATH")
	word := run.Words()[0]
	if run.Argv == nil {
		word = strings.Fields(run.Shell)[0]
	}
	full := find(word, search, p.dir(q))
	if full == "" {
		return ""
	}
	info, err := os.Stat(full)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%q %q %q %q %d %d ", run.Words(), search, q.Dir(), full, info.Size(), info.ModTime().UnixNano())
}

// find returns the path of a program as a process that starts in dir finds it.
func find(word, search, dir string) string {
	in := func(p string) string {
		if filepath.IsAbs(p) {
			return p
		}
		return filepath.Join(dir, p)
	}
	if strings.ContainsRune(word, '/') {
		return in(word)
	}
	for _, place := range filepath.SplitList(search) {
		full := in(filepath.Join(place, word))
		if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return full
		}
	}
	return ""
}
