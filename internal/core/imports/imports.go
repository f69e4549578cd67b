// Package imports reads what the source files of a repository import: which modules,
// at which place, for shipped code, tests or types only. It takes texts and returns names;
// what a name stands for, it does not know.
package imports

import (
	"io/fs"
	"path"
	"runtime"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
	"unsafe"

	"golang.org/x/sync/errgroup"
)

// Import is a module that a file names, and where it does so first.
type Import struct {
	Spec         string
	Line, Column int  // from 1, of the name or the string; columns in characters
	Types        bool // only types of it are used: it is not there at run time
	Test         bool // only in a part of the file that is compiled for tests
	Optional     bool // the file does without, if it is not there
}

// File is what one file imports.
type File struct {
	Package string // of Go: the name of the package
	Imports []Import
	// Mentions are names that the file has in other places than imports. They are
	// evidence that something is used, and none that it is missing.
	Mentions []string
	// Defines are modules that the file makes: their names are no packages.
	Defines []string
	// TestModules are modules in files of their own that are compiled for tests only.
	TestModules []string
	// Generated tells that a program wrote the file, or that it is not part of its
	// package: what it imports is used, and need not be declared.
	Generated bool
	Broken    bool // it cannot be parsed
}

// languages are the readers, by the endings of file names.
var languages = map[string]func(name, text string) File{
	".go": readGo, ".py": readPython, ".pyi": readPython, ".rs": readRust, ".css": readCSS, ".scss": readCSS,
}

// IsSource tells whether a file is in a language that is read, by its name.
func IsSource(name string) bool { return languages[path.Ext(name)] != nil || IsScript(name) }

// Read returns what a file imports. A file of another language imports nothing.
func Read(name, text string) File {
	if isProgram(name) {
		return readProgram(name, text)
	}
	if IsScript(name) {
		return readScript(text)
	}
	if read := languages[path.Ext(name)]; read != nil {
		return read(name, text)
	}
	return File{}
}

// isProgram tells whether a file may be a program in any language, by its name.
func isProgram(name string) bool { return path.Ext(name) == "" && path.Base(path.Dir(name)) == "bin" }

// readProgram reads a program in the language that its first line names.
func readProgram(name, text string) File {
	line, _, _ := strings.Cut(text, "\n")
	switch {
	case !strings.HasPrefix(line, "#!"):
	case strings.Contains(line, "node"):
		return readScript(text)
	case strings.Contains(line, "python"):
		return readPython(name, text)
	}
	return File{}
}

// IsForeign tells whether a path is in third-party sources or test fixtures.
func IsForeign(p string) bool {
	for seg := range strings.SplitSeq(path.Dir(p), "/") {
		switch seg {
		case "node_modules", "vendor", "testdata", "third_party", "fixtures", "__fixtures__", ".git", ".grayloft":
			return true
		}
		if strings.HasPrefix(seg, "_") {
			return true
		}
	}
	return false
}

// Reader reads the files of a repository, each once: all together when the first one
// is asked for, by several threads. It is safe for concurrent use.
type Reader struct {
	fs     fs.FS
	files  []string
	once   sync.Once
	byFile map[string]File
}

// NewReader returns a reader of the files that are sources and not foreign.
func NewReader(fsys fs.FS, files []string) *Reader { return &Reader{fs: fsys, files: files} }

// Start reads the files.
func (r *Reader) Start() { r.once.Do(r.readAll) }

// Of returns what a file imports; nothing if it cannot be read.
func (r *Reader) Of(file string) File {
	r.Start()
	return r.byFile[file]
}

func (r *Reader) readAll() {
	var names []string
	for _, f := range r.files {
		if IsSource(f) && !IsForeign(f) {
			names = append(names, f)
		}
	}
	found := make([]File, len(names))
	const share = 64 // files that a thread takes at a time
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for start := 0; start < len(names); start += share {
		group.Go(func() error {
			var buf []byte
			for i := start; i < min(start+share, len(names)); i++ {
				var err error
				if buf, err = r.read(names[i], buf); err == nil && len(buf) > 0 {
					// What is found has no part of the text: the next file may be in its place.
					found[i] = Read(names[i], unsafe.String(&buf[0], len(buf)))
				}
			}
			return nil
		})
	}
	_ = group.Wait() // none of them fails
	r.byFile = make(map[string]File, len(names))
	for i, name := range names {
		r.byFile[name] = found[i]
	}
}

// intoReader is a file system that reads a file into a buffer, if it has room, or else
// into a new one.
type intoReader interface {
	ReadInto(name string, buf []byte) ([]byte, error)
}

func (r *Reader) read(name string, buf []byte) ([]byte, error) {
	if into, ok := r.fs.(intoReader); ok {
		return into.ReadInto(name, buf)
	}
	return fs.ReadFile(r.fs, name)
}

// nameLength returns the length of the name that a text starts with: letters, digits and low lines,
// of which the first is no digit. It is 0 if there is none.
func nameLength(text string) int {
	for i, r := range text {
		if r != '_' && !unicode.IsLetter(r) && (i == 0 || !unicode.IsNumber(r)) {
			return i
		}
	}
	return len(text)
}

// isGenerated tells whether the beginning of a text says that a program wrote it.
func isGenerated(text string) bool {
	head := text[:min(len(text), 600)]
	if !strings.Contains(head, "dit") && !strings.Contains(head, "DIT") && !strings.Contains(head, "enerated") {
		return false
	}
	head = strings.ToLower(head)
	return strings.Contains(head, "do not edit") || strings.Contains(head, "@generated") || strings.Contains(head, "autogenerated")
}

// at returns an import of the name that starts at a byte of a text. It does not keep the
// text in memory.
func at(text string, start int, spec string) Import {
	line := strings.LastIndexByte(text[:start], '\n') + 1
	return Import{
		Spec:   strings.Clone(spec),
		Line:   strings.Count(text[:start], "\n") + 1,
		Column: utf8.RuneCountInString(text[line:start]) + 1,
	}
}
