// Package imported plans the import of build logic: which files of another repository
// are taken, what a repository declares with them, which tasks change, and how the
// declaration of an import is written. It works on texts; it fetches and writes
// nothing.
package imported

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/edit"
)

// Wanted tells which files patterns select, and whether they are patterns. Without
// patterns, it is what the other repository includes, by the text of its root
// declaration.
func Wanted(patterns []string, root []byte) ([]string, error) {
	if len(patterns) == 0 {
		var other struct {
			Repo struct{ Include []string }
		}
		if err := toml.Unmarshal(root, &other); err != nil || len(other.Repo.Include) == 0 {
			return nil, fmt.Errorf("the other repository includes no files in its %s: name them with --files", decl.RootFile)
		}
		patterns = other.Repo.Include
	}
	for _, p := range patterns {
		if !doublestar.ValidatePattern(p) || path.IsAbs(p) || slices.Contains(strings.Split(p, "/"), "..") {
			return nil, fmt.Errorf("%q is not a pattern from the root of the other repository", p)
		}
	}
	return patterns, nil
}

// Matches tells whether a pattern selects a file.
func Matches(patterns []string, file string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool { ok, _ := doublestar.Match(path.Clean(p), file); return ok })
}

// InTemplates tells whether a file belongs to a template that a kind in some texts
// names.
func InTemplates(texts map[string][]byte, file string) bool {
	for _, text := range texts {
		for _, dir := range decl.Templates(text) {
			if dir = path.Clean(dir); dir != "." && strings.HasPrefix(file, dir+"/") {
				return true
			}
		}
	}
	return false
}

// Files are the files of an import, by their paths in the other repository.
type Files map[string][]byte

// Digest returns the digest of the files.
func (f Files) Digest() (digest.Digest, error) {
	fsys, err := f.below("x")
	if err != nil {
		return digest.Digest{}, err
	}
	return decl.ImportDigest(fsys, "x")
}

// below returns a file system with the files in a directory.
func (f Files) below(dir string) (fs.FS, error) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range f.Names() {
		file, err := w.CreateHeader(&zip.FileHeader{Name: path.Join(dir, name)})
		if err == nil {
			_, err = file.Write(f[name])
		}
		if err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
}

// With returns a repository as it would be with another text of its root declaration,
// and other files of an import; none for nil.
func With(base fs.FS, root string, i *decl.Import, files Files) (fs.FS, error) {
	over, err := files.below(i.Dir())
	return overlay{base, over, root, i.Dir()}, err
}

// overlay is a file system in which one directory and the root declaration are
// replaced.
type overlay struct {
	base, over fs.FS
	root       string
	dir        string
}

// Open implements [fs.FS].
func (o overlay) Open(name string) (fs.File, error) {
	if name == o.dir || strings.HasPrefix(name, o.dir+"/") {
		return o.over.Open(name)
	}
	return o.base.Open(name)
}

// ReadFile implements [fs.ReadFileFS].
func (o overlay) ReadFile(name string) ([]byte, error) {
	if name == decl.RootFile {
		return []byte(o.root), nil
	}
	if name == o.dir || strings.HasPrefix(name, o.dir+"/") {
		return fs.ReadFile(o.over, name)
	}
	return fs.ReadFile(o.base, name)
}

// Add returns the text of a root declaration with an import in it: in the place of one
// of that name, or at the end.
func Add(text string, i *decl.Import) string {
	nl := edit.Ending(text)
	quoted := make([]string, len(i.Files.Items))
	for n, it := range i.Files.Items {
		quoted[n] = tomlText(it.Text)
	}
	table := strings.Join([]string{
		"[import." + key(i.Name) + "]",
		"url    = " + tomlText(i.URL.Text),
		"rev    = " + tomlText(i.Rev.Text),
		"commit = " + tomlText(i.Commit.Text),
		"files  = [" + strings.Join(quoted, ", ") + "]",
		"digest = " + tomlText(i.Digest.Text),
	}, nl) + nl
	if from, to, ok := find(text, i.Name); ok {
		return text[:from] + table + text[to:]
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += nl
	}
	return text + nl + table
}

// Remove returns the text of a root declaration without an import, and without the blank
// lines before it.
func Remove(text, name string) string {
	from, to, ok := find(text, name)
	if !ok {
		return text
	}
	before := strings.TrimRight(text[:from], " \t\r\n")
	if before != "" {
		before += edit.Ending(text)
	}
	return before + text[to:]
}

// find returns where the table of an import is: from its header to the end of its last
// key.
func find(text, name string) (from, to int, ok bool) {
	for _, i := range decl.ReadImports([]byte(text)) {
		if i.Name != name {
			continue
		}
		last := i.Pos.Line
		for _, it := range append([]decl.Item{i.URL, i.Rev, i.Commit, i.Digest}, i.Files.Items...) {
			last = max(last, it.Pos.Line)
		}
		from, ok = edit.Offset(text, i.Pos.Line, 1)
		to, _ = edit.Offset(text, last, 1)
		if end := strings.IndexByte(text[to:], '\n'); end >= 0 {
			return from, to + end + 1, ok
		}
		return from, len(text), ok
	}
	return 0, 0, false
}

func key(name string) string {
	if strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") == "" {
		return name
	}
	return tomlText(name)
}

// tomlText returns a text as a basic string: https://toml.io/en/v1.0.0#string.
func tomlText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteString(`\` + string(r))
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// Names returns the paths of the files, sorted.
func (f Files) Names() []string { return slices.Sorted(maps.Keys(f)) }
