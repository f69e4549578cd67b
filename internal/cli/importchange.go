package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2/maybe"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/imported"
	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/machine/files"
)

// importName matches the names that imports may have.
var importName = pattern.New(`^[A-Za-z0-9][A-Za-z0-9_-]*$`)

// importAdd imports files of a repository under a new name.
func (a *app) importAdd(ctx context.Context, name, url string, f importFlags) error {
	if _, err := a.load(ctx); err != nil { // what is wrong before is not for the import to explain
		return err
	}
	m, err := a.importing()
	if err != nil {
		return err
	}
	if slices.ContainsFunc(m.list, func(i *decl.Import) bool { return i.Name == name }) {
		return wrong("%q is already imported; grayloft import update %s gets its files again", name, name)
	}
	if !importName.MatchString(name) {
		return wrong("%q is not a name for an import: use letters, digits, - and _", name)
	}
	got, err := m.fetch(ctx, name, url, f.rev, f.files)
	if err != nil {
		return err
	}
	if err := m.isIgnored(ctx, got); err != nil {
		return err
	}
	g, text, err := m.loaded(got)
	if err != nil {
		fmt.Fprintf(a.Err, "Nothing was written; with %s, this is wrong:\n", name)
		return err
	}
	if err := m.write(got, text); err != nil {
		return err
	}
	var kinds []string
	for kind := range g.Repo.Kinds {
		if strings.HasPrefix(kind, name+"/") {
			kinds = append(kinds, kind)
		}
	}
	slices.Sort(kinds)
	fmt.Fprintf(a.Err, "%s is at %s (%s) with %s: review and commit %s and %s.\n", name, got.Rev.Text, short(got.Commit.Text),
		amount.Count(len(got.files), "file", "files"), got.Dir(), decl.RootFile)
	if len(kinds) > 0 {
		fmt.Fprintf(a.Err, "Kinds: %s\n", strings.Join(kinds, ", "))
	}
	return nil
}

// importChange is what an update changes, as JSON.
type importChange struct {
	Name    string            `json:"name"`
	Rev     string            `json:"rev"`
	From    string            `json:"from"` // commits
	To      string            `json:"to"`
	Written bool              `json:"written"`
	Changes []imported.Change `json:"changes"`
}

// importUpdate gets the files of imports as they are now.
func (a *app) importUpdate(ctx context.Context, names []string, f importFlags) error {
	m, err := a.importing()
	if err != nil {
		return err
	}
	if len(names) == 0 {
		for _, i := range m.list {
			names = append(names, i.Name)
		}
	}
	if len(names) != 1 && (f.rev != "" || f.files != nil) {
		return wrong("--rev and --files are for one import: name it")
	}
	out := []importChange{}
	for _, name := range names {
		m, err := a.importing() // an update before may have changed the text
		if err != nil {
			return err
		}
		c, err := m.update(ctx, name, f)
		if err != nil {
			return err
		}
		out = append(out, c)
	}
	if a.Format == "json" {
		return a.JSON(out)
	}
	if len(out) == 0 {
		fmt.Fprintln(a.Out, "Nothing is imported.")
	}
	for _, c := range out {
		a.showImportChange(c)
	}
	return nil
}

func (m *importing) update(ctx context.Context, name string, f importFlags) (c importChange, err error) {
	i, err := m.named(name)
	if err != nil {
		return c, err
	}
	if m.isEdited(i) && !f.overwrite {
		return c, wrong("files in %s were edited: an update would lose that. Own changes belong in files of this repository; "+
			"--overwrite discards them", i.Dir())
	}
	rev, patterns := i.Rev.Text, i.Files.Texts()
	if f.rev != "" {
		rev = f.rev
	}
	if f.files != nil {
		patterns = f.files
	}
	got, err := m.fetch(ctx, name, i.URL.Text, rev, patterns)
	if err != nil {
		return c, err
	}
	if err := m.isIgnored(ctx, got); err != nil {
		return c, err
	}
	c = importChange{Name: name, Rev: rev, From: i.Commit.Text, To: got.Commit.Text, Changes: []imported.Change{}}
	after, text, err := m.loaded(got)
	if err != nil {
		fmt.Fprintf(m.a.Err, "Nothing was written; with %s at %s, this is wrong:\n", name, rev)
		return c, err
	}
	before, err := graph.Load(files.Reading(m.root), filepath.Base(m.root))
	if err == nil { // else the files were edited or are gone, and there is nothing to compare with
		c.Changes = append(c.Changes, imported.Changes(before, after)...)
	}
	if f.dryRun || text == m.text && !m.isEdited(i) {
		return c, nil
	}
	c.Written = true
	return c, m.write(got, text)
}

func (a *app) showImportChange(c importChange) {
	switch {
	case c.From == c.To && !c.Written && len(c.Changes) == 0:
		fmt.Fprintf(a.Out, "%s is as %s has it (%s).\n", c.Name, c.Rev, short(c.To))
		return
	case c.Written:
		fmt.Fprintf(a.Out, "%s: %s → %s (%s). %s\n", c.Name, short(c.From), short(c.To), c.Rev, importSummary(c.Changes, "changed"))
	default:
		fmt.Fprintf(
			a.Out,
			"%s: %s → %s (%s). %s\n",
			c.Name,
			short(c.From),
			short(c.To),
			c.Rev,
			importSummary(c.Changes, "would change"),
		)
	}
	for _, x := range c.Changes {
		others := ""
		if n := len(x.Tasks) - 1; n > 0 {
			others = fmt.Sprintf(" and %d more", n)
		}
		fmt.Fprintf(a.Out, "\n  %s%s: %s\n", a.Bold(x.Tasks[0]), others, x.Key)
		for _, side := range []struct{ mark, text string }{{"-", x.Before}, {"+", x.After}} {
			if side.text == "" {
				continue
			}
			for line := range strings.Lines(side.text) {
				fmt.Fprintf(a.Out, "    %s %s\n", side.mark, strings.TrimRight(line, "\r\n"))
			}
		}
	}
}

// writeRootFile replaces the root declaration.
func writeRootFile(root, text string) error {
	file := filepath.Join(root, decl.RootFile)
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	return maybe.WriteFile(file, []byte(text), info.Mode().Perm())
}
