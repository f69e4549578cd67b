package inspect

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	udiff "github.com/aymanbagabas/go-udiff"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/git"
)

// Change is one ingredient that differs, as it is shown and written as JSON.
type Change struct {
	Reason string   `json:"reason"`
	What   string   `json:"what"`
	How    string   `json:"how"`
	Path   string   `json:"path,omitempty"`
	Was    string   `json:"was,omitempty"`
	Is     string   `json:"is,omitempty"`
	Lines  []string `json:"lines,omitempty"` // of text files: a unified diff without its header; of values: those that differ
}

// Differ adds details that people can see to changes: changed lines of text
// files, and the outputs of dependencies that differ.
type Differ struct {
	Archive *Archive
	Repo    git.Repo
	Earlier []string // commits in which the earlier text of a file is looked for
	Later   []string // and the later one
}

// OnDisk stands among commits for the current files.
const OnDisk = "."

const (
	diffFiles = 8       // files whose changed lines are shown
	diffLines = 30      // lines per file
	diffBytes = 1 << 20 // larger files are not compared by line
)

// Describe adds the details to changes.
func (d Differ) Describe(ctx context.Context, changes []key.Change) []Change {
	out := []Change{}
	shown := 0
	for _, c := range changes {
		j := Change{string(c.Reason), c.What, c.How, c.Path, c.Before, c.After, nil}
		switch {
		case c.Reason == key.Files && c.How == "changed" && shown < diffFiles:
			if j.Lines = d.lines(ctx, c); j.Lines != nil {
				shown++
			}
		case c.Reason == key.Upstream && c.How == "changed":
			j.Lines = d.outputs(ctx, c)
		case c.Path == "" && c.How == "changed":
			j.Lines = firstLines(c.Lines())
		}
		out = append(out, j)
	}
	return out
}

// lines returns the changed lines of a text file, if both texts are available:
// the earlier one is looked for in git, and both are verified by their digests.
func (d Differ) lines(ctx context.Context, c key.Change) []string {
	is, ok := d.find(ctx, c.Path, c.After, d.Later)
	if !ok {
		return nil
	}
	was, ok := d.find(ctx, c.Path, c.Before, d.Earlier)
	if !ok {
		return nil
	}
	return unified(was, is)
}

func (d Differ) find(ctx context.Context, path, want string, among []string) (string, bool) {
	for _, commit := range among {
		if commit == "" {
			continue
		}
		if text, ok := d.text(ctx, path, want, commit); ok {
			return text, true
		}
	}
	return "", false
}

func (d Differ) text(ctx context.Context, path, want, commit string) (string, bool) {
	var b []byte
	var err error
	if commit == OnDisk {
		b, err = os.ReadFile(filepath.Join(d.Repo.Dir, filepath.FromSlash(path)))
	} else {
		b, err = d.Repo.Show(ctx, commit, path)
	}
	if err != nil || digest.Of(b).String() != want || len(b) > diffBytes || !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return "", false
	}
	return string(b), true
}

func unified(was, is string) []string {
	text := udiff.Unified("a", "b", was, is)
	var out []string
	for i, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		if i >= 2 { // without the file names
			out = append(out, l)
		}
	}
	return firstLines(out)
}

func firstLines(lines []string) []string {
	if len(lines) > diffLines {
		lines = append(lines[:diffLines], fmt.Sprintf("… and %d more lines", len(lines)-diffLines))
	}
	return lines
}

// outputs says which outputs of a dependency differ.
func (d Differ) outputs(ctx context.Context, c key.Change) []string {
	was, ok := d.listing(ctx, c.Before)
	if !ok {
		return nil
	}
	is, ok := d.listing(ctx, c.After)
	if !ok {
		return nil
	}
	var out []string
	for p, row := range is {
		if old, ok := was[p]; !ok {
			out = append(out, p+" is new")
		} else if old != row {
			out = append(out, p+" changed")
		}
	}
	for p := range was {
		if _, ok := is[p]; !ok {
			out = append(out, p+" is gone")
		}
	}
	slices.Sort(out)
	if len(out) > diffFiles {
		out = append(out[:diffFiles], fmt.Sprintf("… and %d more", len(out)-diffFiles))
	}
	return out
}

func (d Differ) listing(ctx context.Context, text string) (map[string]listing.Row, bool) {
	dg, err := digest.Parse(text)
	if err != nil {
		return nil, false
	}
	b, err := d.Archive.Read(ctx, dg)
	if err != nil {
		return nil, false
	}
	list, err := listing.Parse(b)
	out := map[string]listing.Row{}
	for _, row := range list {
		out[row.Path] = row
	}
	return out, err == nil
}
