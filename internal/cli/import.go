package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/imported"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/usage"
)

// importFlags are what a person gave to add or update.
type importFlags struct {
	rev       string
	files     []string
	dryRun    bool
	overwrite bool
}

func (a *app) importCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "import", Short: "Keep kinds of another repository in this one, pinned to a commit",
		Long: "Copies files with kinds, probes, settings, modes and picks of another git repository to " + decl.ImportsDir + "/NAME,\n" +
			"to be reviewed and committed like any others. Their names begin with that of the import: house/go-library.\n" +
			"[import.NAME] in grayloft.toml records the repository, the commit, and the digest of the files: a file that\n" +
			"was edited is an error.",
		Args: onlyCommands,
		RunE: func(cmd *cobra.Command, _ []string) error { return wrong("%v", usage.Which(cmd)) },
	}
	var f importFlags
	add := &cobra.Command{
		Use: "add NAME URL", Short: "Import files of another repository", Args: words(2, 2, "a name and the address of a repository"),
		Example: "  grayloft import add house https://git.skerry.example/build --rev v3 --files 'kinds/*.toml'",
		RunE:    func(cmd *cobra.Command, args []string) error { return a.importAdd(cmd.Context(), args[0], args[1], f) },
	}
	add.Flags().StringVar(&f.rev, "rev", "HEAD", "a branch, a tag or a commit")
	add.Flags().StringArrayVar(&f.files, "files", nil, "a pattern of files with kinds; default: what the other repository includes")
	var u importFlags
	update := &cobra.Command{
		Use: "update [NAME…]", Short: "Import the files as they are now, and show which tasks change",
		Example: "  grayloft import update --dry-run\n  grayloft import update house --rev v4",
		RunE:    func(cmd *cobra.Command, args []string) error { return a.importUpdate(cmd.Context(), args, u) },
	}
	update.Flags().StringVar(&u.rev, "rev", "", "another branch, tag or commit")
	update.Flags().StringArrayVar(&u.files, "files", nil, "other patterns of files with kinds")
	update.Flags().BoolVar(&u.dryRun, "dry-run", false, "only show what would change")
	update.Flags().BoolVar(&u.overwrite, "overwrite", false, "also where files were edited here")
	list := &cobra.Command{
		Use: "list", Short: "List the imports", Args: noArgs,
		RunE: func(*cobra.Command, []string) error { return a.importList() },
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove an import that nothing uses", Args: words(1, 1, "the name of an import"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.importRemove(args[0]) },
	}
	c.AddCommand(add, update, list, remove)
	return c
}

// importing is a repository whose imports are looked at or changed. It is there even if
// its declarations cannot be loaded.
type importing struct {
	a    *app
	root string
	text string // of the root declaration
	list []*decl.Import
}

func (a *app) importing() (*importing, error) {
	root, err := a.findRoot()
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(filepath.Join(root, decl.RootFile))
	if err != nil {
		return nil, wrong("%v", err)
	}
	return &importing{a, root, string(text), decl.ReadImports(text)}, nil
}

func (m *importing) named(name string) (*decl.Import, error) {
	for _, i := range m.list {
		if i.Name == name {
			return i, nil
		}
	}
	known := make([]string, len(m.list))
	for n, i := range m.list {
		known[n] = i.Name
	}
	if len(known) == 0 {
		return nil, wrong("nothing is imported; grayloft import add NAME URL does it")
	}
	return nil, wrong("no import is named %q; there are %s", name, strings.Join(known, ", "))
}

// isEdited tells whether the files of an import differ from what was imported.
func (m *importing) isEdited(i *decl.Import) bool {
	sum, err := decl.ImportDigest(files.Reading(m.root), i.Dir())
	return err != nil && !errors.Is(err, fs.ErrNotExist) || err == nil && sum.String() != i.Digest.Text
}

// fetched are the files of an import, with its declaration as it would be.
type fetched struct {
	*decl.Import
	files imported.Files
}

// fetch gets the files of an import.
func (m *importing) fetch(ctx context.Context, name, url, rev string, patterns []string) (*fetched, error) {
	remote, err := git.FetchRemote(ctx, url, rev)
	if err != nil {
		return nil, wrong("import %s: %v", name, err)
	}
	defer remote.Close()
	fail := func(err error) error { return wrong("import %s, at %s of %s: %v", name, rev, url, err) }
	root, err := remote.Files(ctx, func(p string) bool { return p == decl.RootFile })
	if err != nil {
		return nil, fail(err)
	}
	if patterns, err = imported.Wanted(patterns, root[decl.RootFile]); err != nil {
		return nil, fail(err)
	}
	files, err := remote.Files(ctx, func(p string) bool { return imported.Matches(patterns, p) })
	if err == nil && len(files) == 0 {
		err = fmt.Errorf("nothing matches %s", strings.Join(patterns, ", "))
	}
	if err != nil {
		return nil, fail(err)
	}
	templates, err := remote.Files(ctx, func(p string) bool { return imported.InTemplates(files, p) })
	if err != nil {
		return nil, fail(err)
	}
	for p, text := range templates {
		files[p] = text
	}
	f := &fetched{&decl.Import{Name: name}, files}
	sum, err := f.files.Digest()
	if err != nil {
		return nil, fail(err)
	}
	f.URL.Text, f.Rev.Text, f.Commit.Text, f.Digest.Text = url, rev, remote.Commit, sum.String()
	for _, p := range patterns {
		f.Files.Items = append(f.Files.Items, decl.Item{Text: p})
	}
	return f, nil
}

// loaded returns the graph as it would be with an import, and the text of the root
// declaration.
func (m *importing) loaded(f *fetched) (*graph.Graph, string, error) {
	text := imported.Add(m.text, f.Import)
	fsys, err := imported.With(files.Reading(m.root), text, f.Import, f.files)
	if err != nil {
		return nil, "", err
	}
	g, err := graph.Load(fsys, filepath.Base(m.root))
	return g, text, err
}

// isIgnored returns an error if git would not take the files of an import.
func (m *importing) isIgnored(ctx context.Context, f *fetched) error {
	var names []string
	for _, name := range f.files.Names() {
		names = append(names, f.Dir()+"/"+name)
	}
	ignored, err := git.Repo{Dir: m.root}.Ignored(ctx, names)
	if err == nil && len(ignored) > 0 {
		err = wrong("git ignores %s: add !/%s/ to .gitignore, so that the files can be committed", ignored[0], decl.ImportsDir)
	}
	return err
}

// write puts the files of an import in place, and then its declaration: all of it or
// nothing.
func (m *importing) write(f *fetched, text string) error {
	root, err := os.OpenRoot(m.root) // it follows no link out of the repository
	if err != nil {
		return machineFault("%v", err)
	}
	defer root.Close()
	dir, fresh, old := f.Dir(), decl.ImportsDir+"/."+f.Name+".new", decl.ImportsDir+"/."+f.Name+".old"
	defer root.RemoveAll(fresh)
	defer root.RemoveAll(old)
	err = errors.Join(root.RemoveAll(fresh), root.RemoveAll(old))
	for _, name := range f.files.Names() {
		at := fresh + "/" + name
		if err == nil {
			err = root.MkdirAll(filepath.Dir(at), 0o755)
		}
		if err == nil {
			err = root.WriteFile(at, f.files[name], 0o644)
		}
	}
	had := false
	if err == nil {
		err = moveDir(root, dir, old)
		had = err == nil
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	if err == nil {
		err = root.Rename(fresh, dir)
	}
	if err == nil {
		err = writeRootFile(m.root, text)
		if err != nil {
			_ = root.RemoveAll(dir)
		}
	}
	if err != nil && had {
		_ = root.Rename(old, dir)
	}
	if err != nil {
		return machineFault("import %s was not changed: %v", f.Name, err)
	}
	return nil
}

// moveDir moves a directory. In the lower layer of an overlay, as in the image of a container, it
// cannot be renamed: its files are copied, and then deleted.
func moveDir(root *os.Root, from, to string) error {
	err := root.Rename(from, to)
	if !errors.Is(err, syscall.EXDEV) {
		return err
	}
	if err = copyDir(root, from, to); err != nil {
		return err
	}
	if err = root.RemoveAll(from); err != nil { // a part may be gone
		err = errors.Join(err, copyDir(root, to, from))
	}
	return err
}

func copyDir(root *os.Root, from, to string) error {
	return fs.WalkDir(root.FS(), from, func(name string, d fs.DirEntry, err error) error {
		at := to + strings.TrimPrefix(name, from)
		if err != nil || d.IsDir() {
			return errors.Join(err, root.MkdirAll(at, 0o755))
		}
		text, err := root.ReadFile(name)
		if err != nil {
			return err
		}
		return root.WriteFile(at, text, 0o644)
	})
}

// importListing is an import as list shows it.
type importListing struct {
	Name   string   `json:"name"`
	URL    string   `json:"url"`
	Rev    string   `json:"rev"`
	Commit string   `json:"commit"`
	Files  []string `json:"files"`
	Edited bool     `json:"edited"`
}

func (a *app) importList() error {
	m, err := a.importing()
	if err != nil {
		return err
	}
	list := make([]importListing, len(m.list))
	for n, i := range m.list {
		list[n] = importListing{i.Name, i.URL.Text, i.Rev.Text, i.Commit.Text, i.Files.Texts(), m.isEdited(i)}
	}
	if a.Format == "json" {
		return a.JSON(list)
	}
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "Nothing is imported.")
		return nil
	}
	var rows [][]string
	for _, i := range list {
		state := ""
		if i.Edited {
			state = "its files were edited here"
		}
		rows = append(rows, []string{i.Name, i.Rev, short(i.Commit), i.URL, state})
	}
	a.Table([]string{"import", "rev", "commit", "from", ""}, rows)
	return nil
}

func short(commit string) string { return commit[:min(len(commit), 8)] }

// importRemove removes an import if the declarations are right without it.
func (a *app) importRemove(name string) error {
	m, err := a.importing()
	if err != nil {
		return err
	}
	i, err := m.named(name)
	if err != nil {
		return err
	}
	if m.isEdited(i) {
		return wrong("files in %s were edited; keep what you need of them elsewhere, and git checkout them first", i.Dir())
	}
	text := imported.Remove(m.text, name)
	fsys, err := imported.With(files.Reading(m.root), text, i, nil)
	if err != nil {
		return err
	}
	if _, err := graph.Load(fsys, filepath.Base(m.root)); err != nil {
		fmt.Fprintf(a.Err, "%s is still used; without it, this is wrong:\n", name)
		return err
	}
	root, err := os.OpenRoot(m.root)
	if err != nil {
		return machineFault("%v", err)
	}
	defer root.Close()
	if err := writeRootFile(m.root, text); err != nil {
		return machineFault("%v", err)
	}
	if err := root.RemoveAll(i.Dir()); err != nil {
		return machineFault("%v", err)
	}
	fmt.Fprintf(a.Err, "%s is removed.\n", name)
	return nil
}

// importSummary says how many tasks changes are about.
func importSummary(changes []imported.Change, wouldChange string) string {
	var tasks []string
	for _, c := range changes {
		tasks = append(tasks, c.Tasks...)
	}
	slices.Sort(tasks)
	n := len(slices.Compact(tasks))
	if n == 0 {
		return "No task " + strings.TrimPrefix(wouldChange, "would ") + "."
	}
	return amount.Count(n, "task", "tasks") + " " + wouldChange + ":"
}
