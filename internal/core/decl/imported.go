package decl

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2/unstable"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pattern"
)

// ImportsDir is the directory, from the root, of the files of other repositories: one
// directory for each import.
const ImportsDir = "build/imports"

// Import is build logic of another repository, of which this one keeps the files.
type Import struct {
	Name   string
	Pos    Pos
	URL    Item
	Rev    Item // what was asked for: a branch, a tag, a commit
	Commit Item // what it was
	Digest Item // of the files
	Files  List // patterns of the files with tables, from the other repository's root
}

// Dir returns the directory of an import's files, from the root.
func (i *Import) Dir() string { return path.Join(ImportsDir, i.Name) }

// ImportDigest returns the digest of the files below an import's directory: of their
// paths and texts.
func ImportDigest(fsys fs.FS, dir string) (digest.Digest, error) {
	h := digest.New()
	err := fs.WalkDir(fsys, dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if !d.Type().IsRegular() {
			return fmt.Errorf("%s is not a regular file", p)
		}
		text, err := fs.ReadFile(fsys, p)
		fmt.Fprintf(h, "%q %d\n%s", strings.TrimPrefix(p, dir+"/"), len(text), text)
		return err
	})
	return digest.From(h), err
}

// ReadImports reads the imports that the text of [RootFile] declares, whatever else is
// wrong in it.
func ReadImports(text []byte) []*Import {
	l := &loader{repo: &Repo{Imports: map[string]*Import{}, sources: map[string]*document{}}}
	doc, problem := parse(RootFile, text)
	r, _ := l.opened(RootFile, doc, problem)
	if e := doc.root.byKey["import"]; e != nil {
		r.named(e, "import", func(n string, e *entry) { l.declareImport(r, n, e) })
	}
	var out []*Import
	for _, i := range l.repo.Imports {
		out = append(out, i)
	}
	slices.SortFunc(out, func(a, b *Import) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (l *loader) declareImport(r *reader, name string, e *entry) {
	i := &Import{Name: name, Pos: e.pos}
	if strings.Contains(name, "/") {
		r.fail(e.pos, "choose another name", "import %q: a name must not contain /", name)
		return
	}
	r.table(e.val.table, "[import."+name+"]", map[string]field{
		"url": r.text(
			&i.URL,
		), "rev": r.word(&i.Rev), "commit": r.word(&i.Commit), "digest": r.word(&i.Digest), "files": r.list(&i.Files),
	})
	l.repo.Imports[name] = i
}

// imports loads the tables of all imports, with their names after that of the import.
func (l *loader) imports(r *reader) error {
	for _, name := range slices.Sorted(maps.Keys(l.repo.Imports)) {
		i := l.repo.Imports[name]
		sum, err := ImportDigest(l.fsys, i.Dir())
		switch {
		case errors.Is(err, fs.ErrNotExist):
			r.fail(i.Pos, "grayloft import update "+name+" fetches it", "the files of import %q are not in %s", name, i.Dir())
			continue
		case err != nil:
			r.fail(i.Pos, "grayloft import update "+name+" --overwrite writes its files again", "import %q: %s", name, err)
			continue
		case sum.String() != i.Digest.Text:
			advice := fmt.Sprintf(
				"grayloft import update %s --overwrite writes them again; own changes belong in files of this repository",
				name,
			)
			r.fail(i.Digest.orAt(i.Pos), advice, "files in %s were edited: they do not have this digest", i.Dir())
			continue
		}
		if err := l.importFiles(r, i); err != nil {
			return err
		}
	}
	return nil
}

// orAt returns the position of an item, or another one if it is not there.
func (it Item) orAt(pos Pos) Pos {
	if it.Pos.Line == 0 {
		return pos
	}
	return it.Pos
}

// importFiles loads the files of one import.
func (l *loader) importFiles(r *reader, i *Import) error {
	var readers []*reader
	n := namespace{prefix: i.Name + "/", dir: i.Dir(), names: map[string]bool{}}
	for _, it := range i.Files.Items {
		files, err := doublestar.Glob(
			l.fsys,
			path.Join(i.Dir(), path.Clean("/"+it.Text)),
			doublestar.WithFilesOnly(),
			doublestar.WithNoFollow(),
		)
		if err != nil {
			r.fail(it.Pos, "patterns are relative to the root of the other repository", "%s", err)
			continue
		}
		slices.Sort(files)
		for _, f := range files {
			data, err := fs.ReadFile(l.fsys, f)
			if err != nil {
				return fmt.Errorf("reading %s: %w", f, err)
			}
			if ir, ok := l.open(f, data); ok {
				readers = append(readers, ir)
				n.collect(ir.doc.root)
			}
		}
	}
	for _, ir := range readers {
		n.rename(ir.doc.root)
		fields := l.shared(ir)
		fields["check"] = func(e *entry) {
			ir.named(e, "check", func(name string, e *entry) {
				if _, own := l.repo.Checks[name]; !own { // what this repository says takes precedence
					l.check(ir, name, e)
				}
			})
		}
		ir.table(ir.doc.root, ir.doc.file, fields)
	}
	return nil
}

// namespace renames what the files of an import declare, and what they say about it.
// Names that they do not declare are those of this repository.
type namespace struct {
	prefix string
	dir    string
	names  map[string]bool // such as kind.go-library
}

// namespaced are the tables whose names get a prefix.
var namespaced = []string{"kind", "probe", "setting", "mode", "pick"}

func (n namespace) collect(root *table) {
	for _, section := range namespaced {
		if e := root.byKey[section]; e != nil && e.val.table != nil {
			for _, one := range e.val.table.entries {
				n.names[section+"."+one.key] = true
			}
		}
	}
}

func (n namespace) rename(root *table) {
	for _, section := range namespaced {
		e := root.byKey[section]
		if e == nil || e.val.table == nil {
			continue
		}
		for _, one := range e.val.table.entries {
			one.key = n.prefix + one.key
			if one.val.table != nil {
				n.inside(section, one.val.table)
			}
		}
	}
}

// inside renames what a table says about others.
func (n namespace) inside(section string, t *table) {
	for _, e := range t.entries {
		switch {
		case section == "mode":
			e.key = n.name("setting", e.key)
		case section == "pick" && e.key == "where":
			e.val.text = n.expression(e.val.text)
		case section == "kind" && e.key == "template":
			e.val.text = path.Join(n.dir, path.Clean("/"+e.val.text))
		case section == "kind" && e.key == "task" && e.val.table != nil:
			for _, task := range e.val.table.entries {
				if task.val.table != nil {
					n.inside("task", task.val.table)
				}
			}
		case section == "task" && (e.key == "probes" || e.key == "settings"):
			for i := range e.val.list {
				e.val.list[i].text = n.name(strings.TrimSuffix(e.key, "s"), e.val.list[i].text)
			}
		case section == "task" && e.key == "run":
			n.command(&e.val)
		}
	}
}

func (n namespace) name(section, name string) string {
	if n.names[section+"."+name] {
		return n.prefix + name
	}
	return name
}

var pickField = pattern.New(`\b(pick|kind):([^\s()"']+)`)

// expression renames the picks and kinds that a pick names.
func (n namespace) expression(text string) string {
	return pickField.ReplaceAllStringFunc(text, func(field string) string {
		section, name, _ := strings.Cut(field, ":")
		return section + ":" + n.name(section, name)
	})
}

var settingVariable = pattern.New(`\bGRAYLOFT_SETTING_[A-Z0-9_]+\b`)

// command renames the settings that a command names: their placeholders, and the
// variables that pass them on.
func (n namespace) command(v *value) {
	replace := func(text string) string {
		text = placeholder.ReplaceAllStringFunc(text, func(m string) string {
			return "%{setting." + n.name("setting", placeholder.FindStringSubmatch(m)[1]) + "}"
		})
		return settingVariable.ReplaceAllStringFunc(text, func(variable string) string {
			for known := range n.names {
				name, ok := strings.CutPrefix(known, "setting.")
				if was := (&Setting{Name: name}); ok && was.Var() == variable {
					return (&Setting{Name: n.prefix + name}).Var()
				}
			}
			return variable
		})
	}
	if v.kind == unstable.String {
		v.text = replace(v.text)
	}
	for i := range v.list {
		v.list[i].text = replace(v.list[i].text)
	}
}

// Templates returns the directories of templates that kinds in the text of a file name.
func Templates(text []byte) (out []string) {
	doc, problem := parse("", bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")))
	e := doc.root.byKey["kind"]
	if problem != nil || e == nil || e.val.table == nil {
		return nil
	}
	for _, kind := range e.val.table.entries {
		if kind.val.table != nil && kind.val.table.byKey["template"] != nil {
			out = append(out, kind.val.table.byKey["template"].val.text)
		}
	}
	return out
}
