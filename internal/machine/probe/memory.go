package probe

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

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
		for _, f := range declared.FilesOf(q.Dir(), files.Paths()) {
			row, err := files.Row(f)
			fmt.Fprintf(h, "%v %v ", row, err)
		}
	}
	memoKey = memoPrefix(q) + digest.From(h).String()
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

// memoPrefix begins the names of the remembered answers to a question.
func memoPrefix(q Question) string { return digest.Of([]byte(q.Probe+"\x00"+q.Dir())).Short() + "-" }

// answersKept is how many answers to a question are remembered: those of a few branches.
const answersKept = 4

func (p *Prober) remember(q Question, memoKey, text string) {
	if os.MkdirAll(p.Memo, 0o755) != nil {
		return
	}
	p.mu.Lock()
	if p.kept == nil {
		p.kept = listAnswers(p.Memo)
	}
	older := p.kept[memoPrefix(q)]
	p.mu.Unlock()
	if statefile.Write(filepath.Join(p.Memo, memoKey), statefile.SealLine([]byte(text))) != nil {
		return
	}
	for ; len(older) >= answersKept; older = older[1:] {
		_ = os.Remove(filepath.Join(p.Memo, older[0])) // if it stays, the next run finds it
	}
}

// listAnswers returns the names of the remembered answers to each question, the oldest first.
func listAnswers(dir string) map[string][]string {
	entries, _ := os.ReadDir(dir)
	written := map[string]time.Time{}
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			written[e.Name()] = info.ModTime()
		}
	}
	out := map[string][]string{}
	for _, name := range slices.SortedFunc(maps.Keys(written), func(a, b string) int { return written[a].Compare(written[b]) }) {
		prefix, _, _ := strings.Cut(name, "-")
		out[prefix+"-"] = append(out[prefix+"-"], name)
	}
	return out
}
