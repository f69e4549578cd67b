package survey

import (
	"encoding/json"
	"fmt"
	"iter"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/tailscale/hujson"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/makefile"
	"grayloft.example/grayloft/internal/core/pattern"
)

// outsider finds what tasks and sources of projects name of the files around their project: a
// script in a directory of tools, data that several projects share.
type outsider struct{ *surveyor }

// outside adds these files to what tasks read or, where another project has them, that project to
// the needs. A task that names something that git does not have there, or a directory around its
// project, is not reused.
func (s *surveyor) outside() {
	o := outsider{s}
	for _, dir := range sortedKeys(s.projects) {
		if dir == "." {
			continue // what is in no other project is its own
		}
		p := s.projects[dir]
		shared := map[string]bool{}
		for _, f := range s.owned()[dir] {
			if !MayName(f) || slices.ContainsFunc(p.Tasks, func(t *Task) bool { return t.From == f }) {
				continue // or it is looked at as the script of that task
			}
			if text := o.textOf(f); strings.Contains(text, "..") {
				o.uses(p, text, f, shared)
			}
		}
		for _, t := range p.Tasks {
			reads, file := map[string]bool{}, path.Join(dir, "x")
			if s.files[t.From] {
				file = t.From // it may name files by its own directory, too
			}
			t.unsure = o.uses(p, t.Script, file, reads)
			if at := worksAt(t.Script); at != "" && !strings.HasPrefix(path.Join(dir, at)+"/", dir+"/") {
				t.unsure = "it works in " + at + ", or writes there, outside its project"
			}
			for r := range shared {
				reads[r] = true
			}
			for _, r := range t.Reads {
				if f, ok := strings.CutPrefix(r, "repo:"); ok && s.files[f] && sharedConfig.MatchString(path.Base(f)) {
					o.follow(p, f, reads)
				}
			}
			t.Reads = append(t.Reads, slices.DeleteFunc(gathered(reads), func(r string) bool { return slices.Contains(t.Reads, r) })...)
		}
	}
}

// textOf returns the text of a source, without scripts that are tasks.
func (o outsider) textOf(f string) string {
	text, _ := o.read(f)
	var manifest map[string]json.RawMessage
	if path.Base(f) == "package.json" && json.Unmarshal([]byte(text), &manifest) == nil {
		delete(manifest, "scripts")
		rest, _ := json.Marshal(manifest) // of what was read from JSON
		return string(rest)
	}
	return text
}

// shellEndings are those of texts for a shell; scripts of manifests have none.
var shellEndings = []string{"", ".sh", ".bash"}

// changesInto matches the directories that a script works in.
var changesInto = pattern.New(`\bcd\s+["']?([\w@+-][\w./@+-]*)`)

// elsewhere match where a script changes its directory to, or puts what it makes.
var elsewhere = append([]*pattern.Pattern{
	pattern.New(`(?m)\bcd\s+["']?([\w./@+-]*\.\.[\w./@+-]*)`),
	pattern.New(`(?m)\b(?:cp|mv|ln|install|rsync)\s[^;&|\n]*\s["']?(\.\.[\w./@+-]*)["']?\s*(?:$|[;&|])`),
}, outputFlags...)

// worksAt returns a path that leads upwards at which a script works or writes; empty if there is none.
func worksAt(script string) string {
	for _, re := range elsewhere {
		for _, m := range re.FindAllStringSubmatch(script, -1) {
			if slices.Contains(strings.Split(m[1], "/"), "..") {
				return strings.TrimRight(m[1], "/")
			}
		}
	}
	return ""
}

// upward yields the paths in a text that lead upwards.
func upward(text string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for at := 0; ; {
			i := strings.Index(text[at:], "..")
			if i < 0 {
				return
			}
			start, end := at+i, at+i+2
			for start > at && isPathByte(text[start-1]) {
				start--
			}
			for end < len(text) && isPathByte(text[end]) {
				end++
			}
			word := text[start:end]
			if at = end; slices.Contains(strings.Split(word, "/"), "..") && !yield(word) {
				return
			}
		}
	}
}

func isPathByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("_@.+~/-", c) >= 0
}

// uses adds the files around a project that a text names to reads, and says what it names of
// which nothing is known; empty if all is.
func (o outsider) uses(p *Project, text, file string, reads map[string]bool) (unknown string) {
	bases := []string{path.Dir(file), p.Dir}
	if slices.Contains(shellEndings, path.Ext(file)) {
		for _, m := range changesInto.FindAllStringSubmatch(text, -1) {
			bases = append(bases, path.Join(p.Dir, m[1]))
		}
	}
	for word := range upward(text) {
		if strings.Contains(word, "node_modules") {
			continue // what is installed is known otherwise
		}
		word = strings.TrimLeft(word, "/") // after a variable
		known := false
		for _, base := range bases {
			known = o.use(p, path.Join(base, word), word+" in "+file, reads) || known
		}
		if !known && unknown == "" {
			unknown = "it names " + strings.TrimRight(word, "/") + ", outside its project, and nothing shows what is there"
		}
	}
	return unknown
}

// NamesPathsTo tells whether a text in a file of a project, given by its directory, names a path that
// leads to another directory: from the file's own, or from the project's.
func NamesPathsTo(text, file, project, other string) bool {
	for word := range upward(text) {
		for _, base := range []string{path.Dir(file), project} {
			if at := path.Join(base, strings.TrimLeft(word, "/")); at == other || strings.HasPrefix(at, other+"/") {
				return true
			}
		}
	}
	return false
}

// use adds a path from the root; not ok if nothing is known of it.
func (o outsider) use(p *Project, at, why string, reads map[string]bool) (ok bool) {
	isFile, isDir := o.files[at], o.holdsFiles(at)
	switch {
	case at == p.Dir || strings.HasPrefix(at, p.Dir+"/"):
		return true
	case at == "." || at == ".." || strings.HasPrefix(at, "../") || strings.HasPrefix(p.Dir, at+"/") || !isFile && !isDir:
		return false
	}
	if owner, has := o.within(path.Join(at, "x")); has && owner != "." {
		p.need(owner, why)
		if isFile { // it may be none that the project offers
			reads["repo:"+at] = true
		}
		return true
	}
	if isDir {
		if o.holdsProjects(at) {
			return false
		}
		reads["repo:"+at+"/**"] = true
		return true
	}
	o.follow(p, at, reads)
	return true
}

func (o outsider) holdsProjects(dir string) bool {
	for other := range o.projects {
		if strings.HasPrefix(other, dir+"/") {
			return true
		}
	}
	return false
}

// mostFollowed is how many files a script around projects may lead to before its directory is
// taken as a whole.
const mostFollowed = 40

// follow adds a file that no project has, and those beside or around it that it names: a script
// imports others, and reads data.
func (o outsider) follow(p *Project, file string, reads map[string]bool) {
	open, seen := []string{file}, map[string]bool{file: true}
	for len(open) > 0 {
		f := open[0]
		open = open[1:]
		reads["repo:"+f] = true
		if !MayName(f) || len(seen) > mostFollowed {
			continue
		}
		o.needPackages(p, f)
		for _, next := range o.named(p, f) {
			if owner, has := o.within(next); has && owner != "." || seen[next] {
				continue
			}
			seen[next] = true
			open = append(open, next)
		}
	}
	if len(seen) > mostFollowed && path.Dir(file) != "." {
		reads["repo:"+path.Dir(file)+"/**"] = true
	}
}

// needPackages adds the packages of the repository that a file outside of projects imports, or extends
// as a configuration, to the needs.
func (o outsider) needPackages(p *Project, file string) {
	var specs []string
	if imports.IsScript(file) {
		for _, x := range o.repo.reader().Of(file).Imports {
			specs = append(specs, x.Spec)
		}
	} else {
		specs = o.extending(file)
	}
	for _, spec := range specs {
		if dir, ok := o.imported(file, spec); ok && dir != "." && dir != p.Dir {
			p.need(dir, fmt.Sprintf("%q in %s", spec, file))
		}
	}
}

// extending returns what a configuration in JSON extends.
func (o outsider) extending(file string) (names []string) {
	text, _ := o.read(file)
	plain, err := hujson.Standardize([]byte(text))
	var conf struct{ Extends json.RawMessage }
	if err != nil || json.Unmarshal(plain, &conf) != nil || conf.Extends == nil {
		return nil
	}
	return oneOrMore(conf.Extends)
}

// oneOrMore returns the strings of a value that is one, or a list.
func oneOrMore(value json.RawMessage) (list []string) {
	if json.Unmarshal(value, &list) != nil {
		list = make([]string, 1)
		_ = json.Unmarshal(value, &list[0])
	}
	return list
}

// named returns the files that a file outside of projects names: by paths from its own directory
// or from where the task runs, and by imports.
func (o outsider) named(p *Project, file string) (out []string) {
	dir := path.Dir(file)
	add := func(at string) {
		if o.files[at] && !strings.HasPrefix(at, p.Dir+"/") {
			out = append(out, at)
		}
	}
	for _, word := range o.pathsIn(file) {
		add(path.Join(dir, word))
		if strings.HasPrefix(word, "..") {
			add(path.Join(p.Dir, word))
		}
	}
	for _, x := range o.repo.reader().Of(file).Imports {
		spec := x.Spec
		if path.Ext(file) == ".py" {
			spec = strings.ReplaceAll(spec, ".", "/")
		}
		for _, ending := range moduleEndings {
			add(path.Join(dir, spec) + ending)
		}
	}
	return out
}

// pathsIn returns the words of a file that may be paths, each once. Many tasks lead to the same files.
func (o outsider) pathsIn(file string) []string {
	words, ok := o.paths[file]
	if !ok {
		text, _ := o.read(file)
		seen := map[string]bool{}
		for word := range strings.FieldsFuncSeq(text, func(r rune) bool { return r >= utf8.RuneSelf || !isPathByte(byte(r)) }) {
			if word = strings.TrimLeft(word, "/"); strings.ContainsAny(word, "./") && !seen[word] {
				seen[word] = true
				words = append(words, word)
			}
		}
		o.paths[file] = words
	}
	return words
}

// moduleEndings are what imports leave out of the names of files.
var moduleEndings = strings.Fields(".js .mjs .cjs .ts .mts .cts .tsx .jsx .py /index.js /index.ts /__init__.py")

// gathered returns reads in order; of many files of one directory, the directory.
func gathered(reads map[string]bool) (out []string) {
	const most = 8
	count := map[string]int{}
	for r := range reads {
		count[path.Dir(r)]++
	}
	for r := range reads {
		if dir := path.Dir(r); count[dir] > most && dir != "." && !strings.HasSuffix(r, "/**") {
			r = dir + "/**"
		}
		if !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	slices.Sort(out)
	return out
}

// MayName tells whether a file is a source or a configuration that names files.
func MayName(f string) bool {
	base := path.Base(f)
	if imports.IsForeign(f) || strings.Contains(base, "lock") {
		return false
	}
	return imports.IsSource(f) || slices.Contains(namingFiles, path.Ext(f)) || slices.Contains(makefile.Names, base)
}

var namingFiles = strings.Fields(".bash .c .cc .cpp .css .h .hpp .html .json .mk .rb .scss .sh .toml .yaml .yml")
