// Package installed tells which of the packages that a package manager installed count for a
// project, from the file in which the package manager records them. A lock file says only what is to
// be installed.
package installed

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode"

	"grayloft.example/grayloft/internal/core/digest"
)

// Record is the file in which a package manager records what it installed.
type Record struct {
	Name    string   // of the file, from the root of the repository
	Root    string   // the directory of the lock file, to which paths in it are relative
	Program string   // that wrote it
	beside  []string // files that are needed to understand it
	locks   []string // files that say what is to be installed
	parse   func(files map[string]string) (*State, error)
}

// records are those that can be read, by their paths below the directory of the lock file.
var records = []Record{
	{
		Name: "node_modules/.package-lock.json", Program: "npm", parse: parseNPM,
		beside: []string{"package.json"}, locks: []string{"package-lock.json", "npm-shrinkwrap.json"},
	},
	{
		Name: "node_modules/.pnpm/lock.yaml", Program: "pnpm", parse: parsePNPM,
		beside: []string{"node_modules/.modules.yaml"}, locks: []string{"pnpm-lock.yaml"},
	},
	{Name: "node_modules/.yarn-state.yml", Program: "yarn", parse: parseYarn, beside: []string{"yarn.lock"}},
	{Name: ".pnp.cjs", Program: "yarn", parse: parsePnP, beside: []string{"yarn.lock"}},
	{Name: ".pnp.data.json", Program: "yarn", parse: parsePnP, beside: []string{"yarn.lock"}},
}

// Names returns the paths of the records that can be read, below the directory of the lock file.
func Names() (out []string) {
	for _, r := range records {
		out = append(out, r.Name)
	}
	return out
}

// Find returns the record with a name from the root of the repository.
func Find(name string) (Record, bool) {
	for _, r := range records {
		if name == r.Name || strings.HasSuffix(name, "/"+r.Name) {
			r.Root = path.Clean(strings.TrimSuffix(name, r.Name))
			r.Name = name
			return r, true
		}
	}
	return Record{}, false
}

// Files returns the files, from the root of the repository, with which what is installed may change: those
// that say what it is, and the lock file, which is changed first.
func (r Record) Files() []string {
	out := r.read()
	for _, f := range r.locks {
		out = append(out, path.Join(r.Root, f))
	}
	return out
}

// read returns the files that say what is installed, the record first.
func (r Record) read() []string {
	out := []string{r.Name}
	for _, f := range r.beside {
		out = append(out, path.Join(r.Root, f))
	}
	return out
}

// Dirs returns the directories that contain the packages, as a probe declares them: those of the lock file's
// directory from there, after a prefix.
func (r Record) Dirs(prefix string) []string {
	if strings.HasPrefix(path.Base(r.Name), ".pnp.") {
		return []string{prefix + path.Join(r.Root, ".yarn"), "home:.yarn/berry"}
	}
	out := []string{prefix + path.Join(r.Root, modules)}
	if prefix != "" { // each project may have more
		out = append(out, modules)
	}
	return out
}

// Read reads what is installed. The error says which file is missing or damaged, and what to do.
func (r Record) Read(read func(name string) ([]byte, error)) (*State, error) {
	files := map[string]string{}
	for i, name := range r.read() {
		text, err := read(name)
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%w: run %s install first", err, r.Program)
		}
		if err != nil {
			return nil, err
		}
		files[slices.Concat([]string{""}, r.beside)[i]] = string(text)
	}
	s, err := r.parse(files)
	if err != nil {
		return nil, fmt.Errorf("%s is damaged (%w): %s install writes it again", r.Name, err, r.Program)
	}
	s.root, s.whole = r.Root, files[""]
	s.number()
	return s, nil
}

// State is what is installed.
type State struct {
	root  string
	head  string // what counts for all packages
	whole string // the record
	nodes map[string]node
	// everyone are packages that any project may find without asking for them.
	everyone []string
	// programs are packages by the names of programs that scripts of any project find.
	programs map[string][]string
	// find returns what something at a path finds by names, installed for it or for others; nil where nothing
	// finds what is installed for others.
	find func(from string, names []string) []string

	numbers map[string]int32 // of nodes, in the order of their names
	order   []numbered
}

// node is an installed package, or a directory that depends on some.
type node struct {
	name     string // with its version, for people; "": nothing identifies it, and it counts only for what it uses
	identity string // of its contents
	uses     []string
	unclear  bool // what it uses cannot be told
}

// numbered is a node whose uses are numbers.
type numbered struct {
	*node
	uses []int32
}

// number numbers the nodes, so that parts of many projects are found quickly.
func (s *State) number() {
	names := slices.SortedFunc(maps.Keys(s.nodes), func(a, b string) int {
		return cmp.Or(cmp.Compare(s.nodes[a].name, s.nodes[b].name), cmp.Compare(a, b))
	})
	s.numbers = make(map[string]int32, len(names))
	for i, name := range names {
		s.numbers[name] = int32(i)
	}
	for _, name := range names {
		n := s.nodes[name]
		s.order = append(s.order, numbered{&n, s.numbered(n.uses)})
	}
	s.nodes = nil
}

// numbered returns the numbers of those nodes that exist.
func (s *State) numbered(names []string) (out []int32) {
	for _, name := range names {
		if i, ok := s.numbers[name]; ok {
			out = append(out, i)
		}
	}
	return out
}

// Manifest is the file of a project whose scripts start programs, in its directory.
const Manifest = "package.json"

// words returns the words of scripts that may be names of programs.
func words(scripts map[string]string) (out []string) {
	for _, s := range scripts {
		out = append(out, strings.FieldsFunc(s, func(r rune) bool {
			return !strings.ContainsRune("-_.@", r) && !unicode.IsLetter(r) && !unicode.IsDigit(r)
		})...)
	}
	return out
}

// directory returns the name of the node of a directory, relative to the lock file's.
func directory(dir string) string { return "directory " + dir }

// Part returns the packages that count for a project, a line for each, and a digest of their contents:
// those on which it depends, directly or not, with those of the directories above it and of the projects
// that it needs, and those whose programs its scripts name. Where the record cannot tell, all of it counts.
func (s *State) Part(dir, manifest string, needed []string) string {
	open := s.numbered(s.starts(dir, manifest, needed))
	seen := make([]bool, len(s.order))
	for len(open) > 0 {
		i := open[len(open)-1]
		open = open[:len(open)-1]
		if seen[i] {
			continue
		}
		seen[i] = true
		if s.order[i].unclear {
			return s.whole
		}
		open = append(open, s.order[i].uses...)
	}
	var text strings.Builder
	text.WriteString(s.head)
	sum, last := digest.New(), ""
	for i, n := range s.order {
		if seen[i] && n.name != "" && n.name != last { // of a package for several sets of peers, one
			last = n.name
			text.WriteString(n.name + "\n")
			_, _ = io.WriteString(sum, n.name+" "+n.identity+"\n")
		}
	}
	return text.String() + "contents " + digest.From(sum).String()
}

// starts returns the nodes that count for a project because of itself.
func (s *State) starts(dir, manifest string, needed []string) []string {
	out := slices.Clone(s.everyone)
	var own npmManifest
	_ = json.Unmarshal([]byte(manifest), &own) // with one that is damaged, nothing runs
	for _, w := range words(own.Scripts) {
		out = append(out, s.programs[w]...)
	}
	for _, d := range append([]string{dir}, needed...) {
		if at, ok := below(d, s.root); ok {
			out = append(out, directory(at))
		}
	}
	at, _ := below(dir, s.root)
	if s.find != nil { // the manifest may be newer
		out = append(out, s.find(at, own.names())...)
	}
	for at != "." && at != "" {
		at = path.Dir(at)
		out = append(out, directory(at))
	}
	return out
}

// below returns the path of a directory from another one that contains it.
func below(dir, root string) (string, bool) {
	switch root {
	case ".":
		return dir, true
	case dir:
		return ".", true
	}
	return strings.CutPrefix(dir, root+"/")
}
