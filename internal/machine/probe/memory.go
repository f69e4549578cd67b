package probe

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
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

// memo is what is remembered of the answers to one question, in a file of JSON with a checksum.
type memo struct {
	Version int      `json:"v"`
	Answers []recall `json:"answers"` // the newest last
}

// recall is a remembered answer.
type recall struct {
	Asked   digest.Digest `json:"asked"` // of the command, its environment, and the files that it declares
	Text    string        `json:"text"`
	Depends depends       `json:"depends"`
	Unknown string        `json:"unknown,omitempty"` // why nobody knows what it depends on: then there is no answer
}

// memoVersion is of what is remembered: earlier versions knew programs alone.
const memoVersion = 4

// answersKept is how many answers to a question are remembered: those of a few branches.
const answersKept = 4

func (p *Prober) memoFile(q Question) string {
	return filepath.Join(p.Memo, digest.Of([]byte(q.Probe + "\x00" + q.Dir())).String()[:32])
}

// load returns what is remembered of a question. A file that is damaged or of another version is empty.
func (p *Prober) load(q Question) (m memo) {
	b, err := os.ReadFile(p.memoFile(q))
	if err != nil {
		return memo{Version: memoVersion}
	}
	text, whole := statefile.OpenLine(b)
	if !whole || json.Unmarshal(text, &m) != nil || m.Version != memoVersion {
		return memo{Version: memoVersion}
	}
	return m
}

// asked identifies a question with everything that it depends on by declaration. Files may be nil if
// the probe reads none.
func (p *Prober) asked(q Question, files Files) digest.Digest {
	declared := p.Graph.Repo.Probes[q.Probe]
	h := digest.New()
	fmt.Fprintf(h, "%q %q %q %q", declared.Run.Words(), declared.Installed.Text, q.Dir(), p.environment(q))
	if len(declared.Reads) > 0 {
		for _, f := range declared.FilesOf(q.Dir(), files.Paths()) {
			row, err := files.Row(f)
			fmt.Fprintf(h, "%v %v ", row, err)
		}
	}
	return digest.From(h)
}

// recall returns a remembered answer, if everything that it depended on is the same.
func (p *Prober) recall(q Question, asked digest.Digest) (recall, bool) {
	for _, r := range slices.Backward(p.load(q).Answers) {
		if r.Asked == asked && r.Depends.hold(p.look) {
			return r, true
		}
	}
	return recall{}, false
}

// remember keeps an answer for later runs.
func (p *Prober) remember(q Question, r recall) {
	if os.MkdirAll(p.Memo, 0o755) != nil {
		return
	}
	m := p.load(q)
	m.Answers = append(slices.DeleteFunc(m.Answers, func(o recall) bool { return o.Asked == r.Asked || !o.Depends.hold(p.look) }), r)
	m.Answers = m.Answers[max(0, len(m.Answers)-answersKept):]
	if text, err := json.Marshal(m); err == nil {
		_ = statefile.Write(p.memoFile(q), statefile.SealLine(text)) // otherwise it is asked again
	}
}

// look returns the status of a path, once for all questions that are answered when a run begins.
func (p *Prober) look(x dependence) string {
	type one struct {
		path   string
		listed bool
	}
	if known, ok := p.seen.Load(one{x.Path, x.Listed}); ok {
		return known.(string)
	}
	status := now(x)
	p.seen.Store(one{x.Path, x.Listed}, status)
	return status
}

// texts returns all remembered answers to a question, if everything that they depended on is the same:
// together with the files that the probe declares, they say which one holds.
func (p *Prober) texts(q Question) (string, bool) {
	m := p.load(q)
	var all []string
	for _, r := range m.Answers {
		if r.Unknown != "" || !r.Depends.hold(p.look) {
			return "", false
		}
		all = append(all, r.Asked.String(), r.Text)
	}
	return strings.Join(all, "\x00"), len(all) > 0
}
