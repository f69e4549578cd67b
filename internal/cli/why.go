package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	udiff "github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/inspect"
)

func (a *app) whyCommand() *cobra.Command {
	var f runFlags
	var against string
	c := &cobra.Command{
		Use: "why TASK", Short: "Show how a task differs from its last result, another run, or another machine",
		Example: "  grayloft why test@fares\n  grayloft why test@fares --against ci",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return exit{exitWrong, "grayloft: why needs exactly one task, such as test@fares"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.why(cmd.Context(), f, args[0], against)
		},
	}
	f.choice.flags(c)
	c.Flags().StringVar(&against, "against", "", "compare with a run, the start of a key, a place, or a person (default: the last result here)")
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
	return c
}

// changeJSON is one ingredient that differs.
type changeJSON struct {
	Reason string   `json:"reason"`
	What   string   `json:"what"`
	How    string   `json:"how"`
	Path   string   `json:"path,omitempty"`
	Was    string   `json:"was,omitempty"`
	Is     string   `json:"is,omitempty"`
	Lines  []string `json:"lines,omitempty"` // for text files: a unified diff without its header
}

type whyJSON struct {
	Task     string       `json:"task"`
	Outcome  string       `json:"outcome"` // the expected key
	Reason   *string      `json:"reason"`
	On       []string     `json:"on"`
	Key      string       `json:"key"` // empty if it depends on a dependency
	Compared pastKeyJSON  `json:"compared_with"`
	Changes  []changeJSON `json:"changes"`
}

type pastKeyJSON struct {
	pastJSON
	Key   string `json:"key"`
	Label string `json:"label"`
}

func (a *app) why(ctx context.Context, f runFlags, name, against string) error {
	f.jobs, f.fetch = 1, "needed"
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	if err := f.choice.apply(r); err != nil {
		return err
	}
	t, err := a.oneTask(ctx, r, "why", name)
	if err != nil {
		return err
	}
	p, e, client, err := a.preview(ctx, r, f, []*graph.Task{t})
	if err != nil {
		return err
	}
	defer e.State.Close()
	x := p.Tasks[slices.IndexFunc(p.Tasks, func(x *inspect.Expected) bool { return x.Task == t })]
	if x.Taken == nil {
		return exit{exitFailed, "grayloft: " + x.Message}
	}
	ps, err := a.openPast(ctx, e, client)
	if err != nil {
		return err
	}
	ref, err := ps.find(t.Addr(), against)
	if err != nil {
		return err
	}
	changes := key.Compare(ref.in, x.Taken, ps.either(x.Parts))
	changes = slices.DeleteFunc(changes, func(c key.Change) bool {
		return c.Reason == key.Upstream && slices.Contains(addrs(x.On), c.What)
	})
	d := differ{ps, r, []string{ref.Commit, "HEAD"}, []string{onDisk}}
	if a.format == "json" {
		return a.json(whyReport(x, ref, d.all(changes)))
	}
	a.printWhy(x, ref, d.all(changes), ps)
	return nil
}

// either reads what was just computed, or else what is stored.
func (p *past) either(taken func(digest.Digest) ([]byte, error)) func(digest.Digest) ([]byte, error) {
	return func(d digest.Digest) ([]byte, error) {
		if text, err := taken(d); err == nil {
			return text, nil
		}
		return p.read(d)
	}
}

func whyReport(x *inspect.Expected, ref reference, changes []changeJSON) whyJSON {
	j := whyJSON{
		Task: x.Task.Addr(), Outcome: string(x.Outcome), On: addrs(x.On), Changes: changes,
		Compared: pastKeyJSON{pastJSON{ref.Run, ref.At.UTC()}, ref.Key.String(), ref.Label},
	}
	if x.Reason != "" {
		reason := string(x.Reason)
		j.Reason = &reason
	}
	if !x.Digests.Key.IsZero() {
		j.Key = x.Digests.Key.String()
	}
	return j
}

func (a *app) printWhy(x *inspect.Expected, ref reference, changes []changeJSON, ps *past) {
	head := x.Task.Addr()
	switch x.Outcome {
	case decide.Ran:
		head += " would run: " + key.Legend[x.Reason]
	case decide.MayRun:
		head += " may run: it depends on the result of " + list3(addrs(x.On))
	case decide.Current:
		head += " would not run: its outputs are here and right"
	default:
		head += fmt.Sprintf(" would not run: it would be %s", x.Outcome)
		if x.MadeBy != nil {
			head += fmt.Sprintf(", made by %s at %s", x.MadeBy.Name, x.MadeBy.Place)
		}
	}
	fmt.Fprintln(a.out, a.bold(head+"."))
	fmt.Fprintln(a.out, a.soft(fmt.Sprintf("compared with %s (run %s of %s)", ref.Label, ref.Run, clock(ref.At, a.now()))))
	if len(changes) == 0 {
		nothing := "\nThe ingredients of its key are the same."
		if len(x.On) > 0 {
			nothing = "\nThe other ingredients of its key are the same."
		}
		fmt.Fprintln(a.out, nothing)
		a.lastReason(x.Task.Addr(), ps)
		return
	}
	a.printChanges(changes)
}

// lastReason says why the task ran the last time.
func (a *app) lastReason(task string, ps *past) {
	for _, run := range ps.runs {
		x, ok := run.Of(task)
		if !ok || x.Reason == "" {
			continue
		}
		line := fmt.Sprintf("It last ran at %s, in run %s: %s", clock(run.At, a.now()), run.ID, key.Legend[key.Reason(x.Reason)])
		if len(x.Detail) > 0 {
			line += " (" + list3(x.Detail) + ")"
		}
		fmt.Fprintln(a.out, line+".")
		return
	}
}

func (a *app) printChanges(changes []changeJSON) {
	for _, c := range changes {
		what := c.What
		if what == "" {
			what = "the details are no longer available"
		}
		line := fmt.Sprintf("  %-11s %s %s", c.Reason, what, c.How)
		if c.How == "new" || c.How == "gone" {
			line = fmt.Sprintf("  %-11s %s is %s", c.Reason, what, c.How)
		}
		fmt.Fprintln(a.out, "\n"+line)
		switch {
		case len(c.Lines) > 0:
			for _, l := range c.Lines {
				fmt.Fprintln(a.out, "              "+fit(l, max(a.width()-14, 0)))
			}
		case c.Path != "" || (c.Was == "" && c.Is == ""):
		case c.Reason == string(key.Upstream):
		default:
			for _, side := range []struct{ mark, text string }{{"-", c.Was}, {"+", c.Is}} {
				if side.text != "" {
					fmt.Fprintln(a.out, "              "+side.mark+" "+strings.ReplaceAll(side.text, "\n", "\n                "))
				}
			}
		}
	}
}

// differ adds visible details to changes: changed lines of text files, and the
// outputs of dependencies that differ.
type differ struct {
	ps     *past
	r      *repository
	before []string // commits in which the earlier text of a file is looked for
	after  []string // and the later one
}

// onDisk is used among commits for the current files.
const onDisk = "."

const (
	diffFiles = 8       // files whose changed lines are shown
	diffLines = 30      // lines per file
	diffBytes = 1 << 20 // larger files are not compared by line
)

func (d differ) all(changes []key.Change) []changeJSON {
	out := []changeJSON{}
	shown := 0
	for _, c := range changes {
		j := changeJSON{string(c.Reason), c.What, c.How, c.Path, c.Before, c.After, nil}
		switch {
		case c.Reason == key.Files && c.How == "changed" && shown < diffFiles:
			if j.Lines = d.lines(c); j.Lines != nil {
				shown++
			}
		case c.Reason == key.Upstream && c.How == "changed":
			j.Lines = d.listings(c)
		}
		out = append(out, j)
	}
	return out
}

// lines returns the changed lines of a text file, if both texts are available:
// the earlier one is looked for in git, and both are verified by their digests.
func (d differ) lines(c key.Change) []string {
	is, ok := d.find(c.Path, c.After, d.after)
	if !ok {
		return nil
	}
	was, ok := d.find(c.Path, c.Before, d.before)
	if !ok {
		return nil
	}
	return unified(was, is)
}

func (d differ) find(path, want string, among []string) (string, bool) {
	for _, commit := range among {
		if text, ok := d.text(path, want, commit); commit != "" && ok {
			return text, true
		}
	}
	return "", false
}

func (d differ) text(path, want, commit string) (string, bool) {
	var b []byte
	var err error
	if commit == onDisk {
		b, err = os.ReadFile(d.r.root + "/" + path)
	} else {
		b, err = d.r.git.Show(d.ps.ctx, commit, path)
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
	if len(out) > diffLines {
		out = append(out[:diffLines], fmt.Sprintf("… and %d more lines", len(out)-diffLines))
	}
	return out
}

// listings says which outputs of a dependency differ.
func (d differ) listings(c key.Change) []string {
	load := func(text string) (map[string]listing.Row, bool) {
		dg, err := digest.Parse(text)
		if err != nil {
			return nil, false
		}
		b, err := d.ps.read(dg)
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
	was, ok1 := load(c.Before)
	is, ok2 := load(c.After)
	if !ok1 || !ok2 {
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
