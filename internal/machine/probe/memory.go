package probe

import (
	"fmt"
	"os"
	"path/filepath"

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
// to remember it: a digest of the programs, PATH, and the files that the probe
// reads. The name is empty for a probe that must not be remembered. Files may be nil if it reads none.
func (p *Prober) recall(q Question, files Files) (answer, memoKey string) {
	declared := p.Graph.Repo.Probes[q.Probe]
	if !declared.Rememberable {
		return "", ""
	}
	programs, err := p.programs(q)
	if err != nil {
		return "", ""
	}
	h := digest.New()
	_, _ = h.Write([]byte(memoVersion + programs))
	if len(declared.Reads) > 0 {
		for _, f := range files.Paths() {
			if declared.ReadsFile(q.Dir(), f) {
				row, err := files.Row(f)
				fmt.Fprintf(h, "%v %v ", row, err)
			}
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

// memoVersion is of what is remembered: earlier versions had the beginning of long answers, and
// answers of programs that let something else decide.
const memoVersion = "3 "

func (p *Prober) remember(memoKey, text string) {
	if os.MkdirAll(p.Memo, 0o755) == nil {
		_ = statefile.Write(filepath.Join(p.Memo, memoKey), statefile.SealLine([]byte(text)))
	}
}
