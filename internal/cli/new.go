package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/files"
)

func (a *app) newCommand() *cobra.Command {
	return &cobra.Command{
		Use: "new KIND DIR", Short: "Make a project from the template of a kind",
		Long: "Copies the files of the kind's template directory to DIR. In their names and texts, %{name} becomes the\n" +
			"project's name, %{base} its last segment, %{dir} its directory, %{repo} the repository's name, and %{ident}\n" +
			"(%{Ident}) an identifier that most languages accept. The suffix .tmpl of a file's name is dropped, so that\n" +
			"tools do not mistake a template for a source file. Existing files are never overwritten.",
		Example: "  grayloft new go-library libs/ferries",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return wrong("new needs a kind and a directory: grayloft new go-library libs/ferries")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return a.newProject(cmd.Context(), args[0], args[1]) },
	}
}

func (a *app) newProject(ctx context.Context, kind, where string) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	k := r.graph.Repo.Kinds[kind]
	if k == nil {
		return noneNamed("kind", kind, named(r, "kind"))
	}
	if k.Template.Text == "" {
		return wrong(
			"kind %q has no template: add template = \"build/templates/%s\" in %s, and put the files of a new project there",
			kind,
			kind,
			k.Pos.At(),
		)
	}
	dir, err := a.fromRoot(r, where)
	if err != nil {
		return err
	}
	if err := a.placeFor(r, dir); err != nil {
		return err
	}
	root, err := os.OpenRoot(r.root) // neither reading nor writing follows a link out of the repository
	if err != nil {
		return machineFault("%v", err)
	}
	defer root.Close()
	texts, err := fill(root.FS(), k.Template.Text, r.graph.Repo.Name, dir)
	if err != nil {
		return machineFault("the template of kind %s: %v", kind, err)
	}
	if _, ok := texts[decl.ProjectFile]; !ok {
		texts[decl.ProjectFile] = filled{"[project]\nkind = \"" + kind + "\"\n", 0o644}
	}
	if err := writeNew(root, dir, texts); err != nil {
		return machineFault("%v", err)
	}
	return a.checkNew(r, dir, texts)
}

// placeFor explains why a project cannot be made in a directory.
func (a *app) placeFor(r *repository, dir string) error {
	if dir == "." {
		return wrong("a new project cannot be made at the root of the repository")
	}
	holds := slices.ContainsFunc(r.graph.Repo.KindFiles, func(it decl.Item) bool {
		p, err := glob.Parse(it.Text)
		return err == nil && p.MatchExact(dir)
	})
	if !holds {
		var among []string
		for _, it := range r.graph.Repo.KindFiles {
			among = append(among, it.Text)
		}
		return wrong(
			"no pattern of [repo] projects in %s matches %q: choose a directory that one of %s matches, or add a pattern there",
			decl.RootFile,
			dir,
			strings.Join(among, ", "),
		)
	}
	list, err := os.ReadDir(filepath.Join(r.root, dir))
	if err == nil && len(list) > 0 {
		return wrong("%s exists and is not empty: nothing was made", dir)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return machineFault("%v", err)
	}
	return nil
}

type filled struct {
	text string
	mode fs.FileMode
}

// fill reads a template and inserts the names. Files that are not text are
// copied unchanged.
func fill(fsys fs.FS, template, repo, dir string) (map[string]filled, error) {
	base := path.Base(dir)
	names := strings.NewReplacer("%{name}", dir, "%{base}", base, "%{dir}", dir, "%{repo}", repo,
		"%{ident}", ident(base), "%{Ident}", title(ident(base)))
	out := map[string]filled{}
	err := fs.WalkDir(fsys, template, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if !d.Type().IsRegular() {
			return fmt.Errorf("%s in the template is not a regular file", p)
		}
		b, err := fs.ReadFile(fsys, p)
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		text := string(b)
		if utf8.Valid(b) {
			text = names.Replace(text)
		}
		rel := strings.TrimSuffix(names.Replace(strings.TrimPrefix(p, template+"/")), ".tmpl")
		if !fs.ValidPath(rel) {
			return fmt.Errorf("%s in the template becomes %q, which is not a path inside the project", p, rel)
		}
		out[rel] = filled{text, info.Mode().Perm()}
		return nil
	})
	if err == nil && len(out) == 0 {
		err = fmt.Errorf("the template %s is empty", template)
	}
	return out, err
}

// ident returns a name in a form that most languages accept as an identifier.
func ident(s string) string {
	return strings.ToLower(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return -1
	}, s))
}

func title(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func writeNew(root *os.Root, dir string, texts map[string]filled) error {
	for _, rel := range slices.Sorted(maps.Keys(texts)) {
		name := filepath.FromSlash(path.Join(dir, rel))
		if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, texts[rel].mode|0o600)
		if err != nil {
			return err
		}
		_, err = f.WriteString(texts[rel].text)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// checkNew reads the declarations including the new project.
func (a *app) checkNew(r *repository, dir string, texts map[string]filled) error {
	g, err := graph.Load(files.Reading(r.root), filepath.Base(r.root))
	if err != nil {
		fmt.Fprintln(a.Err, err)
		return exit{
			exitWrong,
			fmt.Sprintf("\ngrayloft: %s was made, but its declaration has the errors above: fix the template or the project", dir),
		}
	}
	p := g.Containing(dir)
	fmt.Fprintf(
		a.Out,
		"Made %s from %s: project %s with %s.\n",
		dir,
		amount.Count(len(texts), "file", "files"),
		p.Name,
		amount.Count(len(p.Tasks), "task", "tasks"),
	)
	for _, rel := range slices.Sorted(maps.Keys(texts)) {
		fmt.Fprintln(a.Out, "  "+path.Join(dir, rel))
	}
	if len(p.Tasks) > 0 {
		var names []string
		for _, t := range p.Tasks {
			names = append(names, t.Addr())
		}
		fmt.Fprintf(a.Out, "\nNext: grayloft run %s\n", strings.Join(names, " "))
	}
	return nil
}
