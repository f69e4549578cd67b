package files

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// stateFile returns the path of a file with remembered facts about this
// checkout. It may be lost at any time.
func (c *Checkout) stateFile(name string) string {
	return filepath.Join(c.Root, ".grayloft", name)
}

func writeStamp(w *statefile.Writer, st stamp) {
	w.Fixed(st.Dev)
	w.Fixed(st.Ino)
	w.Fixed(uint64(st.Size))
	w.Uint(uint64(st.Mode))
	w.Fixed(uint64(st.Mtime))
	w.Fixed(uint64(st.Ctime))
}

// stampSize is the minimum number of bytes that [writeStamp] writes.
const stampSize = 8*5 + 1

func readStamp(r *statefile.Reader) stamp {
	return stamp{r.Fixed(), r.Fixed(), int64(r.Fixed()), uint32(r.Uint()), int64(r.Fixed()), int64(r.Fixed())}
}

func writeTexts(w *statefile.Writer, list []string) {
	w.Uint(uint64(len(list)))
	for _, s := range list {
		w.Text(s)
	}
}

func readTexts(r *statefile.Reader) []string {
	out := make([]string, r.Count(1))
	for i := range out {
		out[i] = r.Text()
	}
	return out
}

// tracked are the paths that git tracks, with the state of its index.
type tracked struct {
	index indexState
	paths []string
}

var trackedFormat = statefile.Register(statefile.Format[tracked]{
	Name: "tracked", Version: 2,
	Encode: func(w *statefile.Writer, t tracked) {
		t.index.write(w)
		writeTexts(w, t.paths)
	},
	Decode: func(r *statefile.Reader) tracked { return tracked{readIndexState(r), readTexts(r)} },
})

// trackedFiles returns the paths that git tracks, sorted. They are remembered
// while git's index is the same file with the same status.
func (c *Checkout) trackedFiles(ctx context.Context) ([]string, error) {
	index, known := c.indexState()
	file := c.stateFile("tracked")
	if t, ok := trackedFormat.Load(file); ok && known && t.index == index {
		return t.paths, nil
	}
	taken := c.now()
	list, err := c.Git.Tracked(ctx)
	if err != nil {
		return nil, err
	}
	if known && index.settledBefore(taken) {
		_ = trackedFormat.Save(file, tracked{index, list})
	}
	return list, nil
}

// indexState identifies the state of git's index.
type indexState struct {
	file string
	st   stamp
}

func (i indexState) write(w *statefile.Writer) {
	w.Text(i.file)
	writeStamp(w, i.st)
}

// settledBefore tells whether a change after the moment would show.
func (i indexState) settledBefore(t time.Time) bool {
	return remembered{Stamp: i.st, Taken: t.UnixNano()}.safe()
}

func readIndexState(r *statefile.Reader) indexState { return indexState{r.Text(), readStamp(r)} }

// indexState returns the state of git's index; ok is false if it is unknown.
func (c *Checkout) indexState() (state indexState, ok bool) {
	index := c.indexFile()
	info, err := os.Lstat(index)
	if err != nil {
		return indexState{}, false
	}
	st, ok := stampOf(info)
	return indexState{index, st}, ok
}

// indexFile returns the path of git's index; empty if it cannot be found
// without asking git.
func (c *Checkout) indexFile() string {
	for d := c.Root; ; d = filepath.Dir(d) {
		dot := filepath.Join(d, ".git")
		info, err := os.Lstat(dot)
		switch {
		case err != nil && d == filepath.Dir(d):
			return ""
		case err != nil:
			continue
		case info.IsDir():
			return filepath.Join(dot, "index")
		}
		text, err := os.ReadFile(dot)
		dir, ok := strings.CutPrefix(strings.TrimSpace(string(text)), "gitdir: ")
		if err != nil || !ok {
			return ""
		}
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(d, dir)
		}
		return filepath.Join(dir, "index")
	}
}

// ignores remembers which untracked paths the ignore files exclude, while these
// files stay the same.
type ignores struct {
	state   generation
	rules   digest.Digest
	answers map[string]bool // by [ruled]
	changed bool
}

// generation is of a state file to which others refer: a random text, which is another one whenever
// the file begins again, and how often it was saved since.
type generation struct {
	id    string
	saves uint64
}

// covers tells whether a file has everything that it had when another one referred to it.
func (g generation) covers(earlier generation) bool {
	return g.id != "" && g.id == earlier.id && g.saves >= earlier.saves
}

func (g generation) write(w *statefile.Writer) {
	w.Text(g.id)
	w.Uint(g.saves)
}

func readGeneration(r *statefile.Reader) generation { return generation{r.Text(), r.Uint()} }

// ruled returns a path as rules about ignored files see it: some are about directories only.
func ruled(p string, dir bool) string {
	if dir {
		return p + "/"
	}
	return p
}

func (f found) ruled() string { return ruled(f.path, f.dir()) }

var ignoresFormat = statefile.Register(statefile.Format[*ignores]{
	Name: "ignored", Version: 4,
	Encode: func(w *statefile.Writer, ig *ignores) {
		ig.state.write(w)
		w.Digest(ig.rules)
		for p, ignored := range ig.answers {
			w.Text(p)
			if ignored {
				w.Uint(1)
			} else {
				w.Uint(0)
			}
		}
	},
	Decode: func(r *statefile.Reader) *ignores {
		ig := &ignores{state: readGeneration(r), rules: r.Digest(), answers: map[string]bool{}}
		for r.More() {
			p := r.Text()
			ig.answers[p] = r.Uint() == 1
		}
		return ig
	},
})

func loadIgnores(file string) *ignores {
	if ig, ok := ignoresFormat.Load(file); ok {
		return ig
	}
	return &ignores{state: generation{id: rand.Text()}, answers: map[string]bool{}}
}

// forget drops all answers.
func (ig *ignores) forget() {
	ig.state, ig.answers, ig.changed = generation{id: rand.Text()}, map[string]bool{}, true
}

// ask makes sure that every path has an answer.
func (ig *ignores) ask(ctx context.Context, c *Checkout, list []found) error {
	var paths []string
	as := map[string]string{}
	for _, x := range list {
		if _, ok := ig.answers[x.ruled()]; !ok {
			paths = append(paths, x.path)
			as[x.path] = x.ruled()
		}
	}
	if len(paths) == 0 {
		return nil
	}
	ignored, err := c.Git.Ignored(ctx, paths)
	if err != nil {
		return err
	}
	for _, p := range paths {
		ig.answers[as[p]] = false
	}
	for _, p := range ignored {
		ig.answers[as[p]] = true
	}
	ig.changed = true
	return nil
}

// save writes the answers for the next run. If that fails, nothing that refers to them may be kept.
func (ig *ignores) save(file string) error {
	if !ig.changed && ig.state.saves > 0 {
		return nil
	}
	ig.changed = false
	ig.state.saves++
	return ignoresFormat.Save(file, ig)
}

// appendStamp appends a stamp to material for a digest.
func appendStamp(b []byte, st stamp) []byte {
	le := binary.LittleEndian
	b = le.AppendUint64(b, st.Dev)
	b = le.AppendUint64(b, st.Ino)
	b = le.AppendUint64(b, uint64(st.Size))
	b = le.AppendUint32(b, st.Mode)
	b = le.AppendUint64(b, uint64(st.Mtime))
	return le.AppendUint64(b, uint64(st.Ctime))
}
