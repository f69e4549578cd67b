package files

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// stateFile returns the path of a file with remembered facts about this
// checkout. It may be lost at any time.
func (c *Checkout) stateFile(name string) string {
	return filepath.Join(c.Root, ".grayloft", name)
}

func appendStamp(b []byte, st stamp) []byte {
	le := binary.LittleEndian
	b = le.AppendUint64(b, st.Dev)
	b = le.AppendUint64(b, st.Ino)
	b = le.AppendUint64(b, uint64(st.Size))
	b = le.AppendUint32(b, st.Mode)
	b = le.AppendUint64(b, uint64(st.Mtime))
	return le.AppendUint64(b, uint64(st.Ctime))
}

// stampSize is the number of bytes that [appendStamp] adds.
const stampSize = 8*5 + 4

// readStamp reads what [appendStamp] wrote.
func readStamp(b []byte) stamp {
	u := binary.LittleEndian.Uint64
	return stamp{u(b), u(b[8:]), int64(u(b[16:])), binary.LittleEndian.Uint32(b[24:]), int64(u(b[28:])), int64(u(b[36:]))}
}

// sealed puts a head and a digest before a body; opened removes them, or
// returns nil if the file is damaged or of another version.
func sealed(head string, body []byte) []byte {
	sum := digest.Of(body)
	return append(append([]byte(head), sum[:]...), body...)
}

func opened(head, file string) []byte {
	data, err := os.ReadFile(file)
	if err != nil || len(data) < len(head)+digest.Size || string(data[:len(head)]) != head {
		return nil
	}
	body := data[len(head)+digest.Size:]
	if digest.Of(body) != digest.Digest(data[len(head):len(head)+digest.Size]) {
		return nil
	}
	return body
}

const trackedHead = "grayloft-tracked 1\n"

// trackedFiles returns the paths that git tracks, sorted. They are remembered
// while git's index is the same file with the same status.
func (c *Checkout) trackedFiles(ctx context.Context) ([]string, error) {
	mark, modified := c.indexMark()
	file := c.stateFile("tracked")
	if body := opened(trackedHead, file); mark != nil && bytes.HasPrefix(body, mark) {
		return splitPaths(body[len(mark):]), nil
	}
	taken := time.Now()
	list, err := c.Git.Tracked(ctx)
	if err != nil {
		return nil, err
	}
	if mark != nil && modified.Add(indexSettles).Before(taken) {
		_ = WriteFile(file, sealed(trackedHead, append(mark, strings.Join(list, "\x00")...)))
	}
	return list, nil
}

// indexSettles is how long before a moment git's index must have been written
// so that a later change shows in its status, however coarse the times are.
const indexSettles = 2 * time.Second

// indexMark identifies the state of git's index, and says when it was written;
// nil if that is unknown.
func (c *Checkout) indexMark() (mark []byte, modified time.Time) {
	index := c.indexFile()
	info, err := os.Lstat(index)
	if err != nil {
		return nil, time.Time{}
	}
	st, ok := stampOf(info)
	if !ok {
		return nil, time.Time{}
	}
	return appendStamp([]byte(index+"\x00"), st), info.ModTime()
}

func splitPaths(body []byte) []string {
	if len(body) == 0 {
		return nil
	}
	return strings.Split(string(body), "\x00")
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

const ignoresHead = "grayloft-ignored 1\n"

// ignores remembers which untracked paths the ignore files exclude, while these
// files stay the same.
type ignores struct {
	rules   digest.Digest
	answers map[string]bool
	changed bool
}

func loadIgnores(file string) *ignores {
	ig := &ignores{answers: map[string]bool{}}
	body := opened(ignoresHead, file)
	if len(body) < digest.Size {
		return ig
	}
	ig.rules = digest.Digest(body[:digest.Size])
	for _, p := range splitPaths(body[digest.Size:]) {
		if len(p) > 1 {
			ig.answers[p[1:]] = p[0] == '-'
		}
	}
	return ig
}

// forget drops all answers.
func (ig *ignores) forget() { ig.answers, ig.changed = map[string]bool{}, true }

// ask makes sure that every path has an answer.
func (ig *ignores) ask(ctx context.Context, c *Checkout, list []found) error {
	var paths []string
	for _, x := range list {
		if _, ok := ig.answers[x.path]; !ok {
			paths = append(paths, x.path)
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
		ig.answers[p] = false
	}
	for _, p := range ignored {
		ig.answers[p] = true
	}
	ig.changed = true
	return nil
}

func (ig *ignores) save(file string) {
	if !ig.changed {
		return
	}
	rows := make([]string, 0, len(ig.answers))
	for p, ignored := range ig.answers {
		sign := "+"
		if ignored {
			sign = "-"
		}
		rows = append(rows, sign+p)
	}
	slices.Sort(rows)
	_ = WriteFile(file, sealed(ignoresHead, append(ig.rules[:], strings.Join(rows, "\x00")...)))
}
