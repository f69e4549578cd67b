package imports

import (
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
)

// readRust reads the use declarations of a Rust file, as the first segment of each
// path: https://doc.rust-lang.org/reference/items/use-declarations.html. Names before
// other paths are mentions; modules and names that the file makes are definitions.
func readRust(_, text string) File {
	out := File{Generated: isGenerated(text)}
	r := rustReader{text: text, words: rustWords(text), out: &out, seen: map[string]int{}}
	r.run()
	return out
}

type rustWord struct {
	text string
	at   int
}

// rustNameLength is [nameLength] for names that may be raw, such as r#type.
func rustNameLength(text string) int {
	if raw, ok := strings.CutPrefix(text, "r#"); ok {
		if n := nameLength(raw); n > 0 {
			return n + len("r#")
		}
	}
	return nameLength(text)
}

// rustWords returns the names and signs of a text, without comments and strings.
func rustWords(text string) (out []rustWord) {
	for i := 0; i < len(text); {
		rest := text[i:]
		switch n := rustBlank(rest); {
		case n > 0:
			i += n
		default:
			word := rest[:max(rustNameLength(rest), 1)]
			if strings.HasPrefix(rest, "::") {
				word = "::"
			}
			out = append(out, rustWord{strings.TrimPrefix(word, "r#"), i})
			i += len(word)
		}
	}
	return out
}

var (
	rustRaw  = pattern.New(`^(?:b|c)?r(#*)"`)
	rustChar = pattern.New(`^b?'(?:\\(?:u\{[^}]*\}|x..|.)|[^\\'\n])'`)
	rustText = pattern.New(`^(?:b|c)?"(?:[^"\\]|\\(?s:.))*"`)
)

// rustBlank returns the length of the white space, comment, string or character that
// a text starts with; 0 if it starts with something else.
func rustBlank(text string) int {
	switch {
	case strings.HasPrefix(text, "//"):
		return lineLength(text)
	case strings.HasPrefix(text, "/*"):
		return rustComment(text)
	case strings.ContainsAny(text[:1], " \t\r\n"):
		return 1
	case !strings.ContainsAny(text[:1], `"'brc`):
		return 0
	}
	if m := rustRaw.FindStringSubmatch(text[:min(len(text), 300)]); m != nil {
		end := strings.Index(text[len(m[0]):], `"`+m[1])
		if end < 0 {
			return len(text)
		}
		return len(m[0]) + end + 1 + len(m[1])
	}
	if n := len(rustText.FindString(text)); n > 0 {
		return n
	}
	return len(rustChar.FindString(text[:min(len(text), 40)]))
}

// rustComment returns the length of a comment between /* and */, which may contain
// others.
func rustComment(text string) int {
	depth := 0
	for i := 0; i+1 < len(text); i++ {
		switch text[i : i+2] {
		case "/*":
			depth++
			i++
		case "*/":
			depth--
			i++
		}
		if depth == 0 {
			return i + 1
		}
	}
	return len(text)
}

type rustReader struct {
	text  string
	words []rustWord
	out   *File
	seen  map[string]int

	depth   int // of braces and other brackets
	test    int // the depth at which code for tests started; 0: it is no such code
	macro   int // the depth at which what a macro takes started; 0: it is no such code
	pending bool
	private bool // it uses crates of the compiler
}

func (r *rustReader) word(i int) string {
	if i < 0 || i >= len(r.words) {
		return ""
	}
	return r.words[i].text
}

func (r *rustReader) run() {
	r.private = strings.Contains(r.text, "rustc_private")
	for i := 0; i < len(r.words); i++ {
		switch w := r.words[i].text; w {
		case "#":
			r.pending = r.pending || r.isForTests(i)
			r.attribute(i)
		case "{", "(", "[":
			r.open(i)
		case "}", ")", "]":
			r.close()
		case ";":
			r.pending = false
		case "use":
			r.paths(i + 1)
			i = r.end(i) - 1
		case "crate":
			if r.word(i-1) == "extern" {
				r.add(i+1, r.private || strings.HasPrefix(r.word(i+1), "rustc_"))
			}
		case "mod":
			r.define(r.word(i + 1))
			if r.word(i+2) == ";" && (r.pending || r.test > 0) {
				r.out.TestModules = append(r.out.TestModules, strings.Clone(r.word(i+1)))
			}
		case "::":
			isFirst := r.word(i-2) != "::" || nameLength(r.word(i-3)) == 0 && r.word(i-3) != ">"
			if name := r.word(i - 1); nameLength(name) > 0 && isFirst {
				r.out.Mentions = append(r.out.Mentions, strings.Clone(name))
			}
		}
	}
}

func (r *rustReader) open(i int) {
	r.depth++
	if r.word(i) == "{" && r.pending {
		if r.test == 0 {
			r.test = r.depth
		}
		r.pending = false
	}
	if r.word(i-1) == "!" && nameLength(r.word(i-2)) > 0 && r.macro == 0 {
		r.macro = r.depth
	}
}

func (r *rustReader) close() {
	if r.depth == r.test {
		r.test = 0
	}
	if r.depth == r.macro {
		r.macro = 0
	}
	r.depth = max(r.depth-1, 0)
}

// isForTests tells whether an attribute starts here that keeps what follows for tests:
// #[cfg(test)], also with other conditions, #[test] and the like.
func (r *rustReader) isForTests(i int) bool {
	if r.word(i+1) != "[" {
		return false
	}
	is := false
	for ; i < len(r.words) && r.word(i) != "]"; i++ {
		switch r.word(i) {
		case "not":
			return false
		case "test", "doctest", "bench":
			is = true
		}
	}
	return is
}

// attribute adds the names in an attribute that take something as mentions: of what a derived
// implementation reads, such as serde in #[serde(skip)].
func (r *rustReader) attribute(i int) {
	if r.word(i+1) != "[" {
		return
	}
	for i += 2; i < len(r.words) && r.word(i) != "]"; i++ {
		if name := r.word(i); r.word(i+1) == "(" && name != "derive" && name != "cfg" && nameLength(name) > 0 {
			r.out.Mentions = append(r.out.Mentions, strings.Clone(name))
		}
	}
}

// end returns where the declaration that starts at a word ends.
func (r *rustReader) end(i int) int {
	for i < len(r.words) && r.word(i) != ";" {
		i++
	}
	return i
}

// paths reads the tree of a use declaration.
func (r *rustReader) paths(i int) {
	end := r.end(i)
	if r.word(i) == "::" {
		i++
	}
	if r.word(i) != "{" {
		r.add(i, false)
	}
	for n, depth := i, 0; n < end; n++ {
		switch w := r.word(n); {
		case w == "{":
			depth++
		case w == "}":
			depth--
		}
		isFirst := depth == 1 && r.word(i) == "{" && (r.word(n-1) == "{" || r.word(n-1) == ",")
		next := r.word(n + 1)
		switch {
		case isFirst:
			r.add(n, false)
		case n > i && nameLength(r.word(n)) > 0 && (next == ";" || next == "," || next == "}"):
			r.define(r.word(n)) // what the declaration makes known here
		}
	}
}

func (r *rustReader) define(name string) {
	if !slices.Contains(r.out.Defines, name) {
		r.out.Defines = append(r.out.Defines, strings.Clone(name))
	}
}

// add adds the crate that a word names; names with capitals are types. What a macro takes
// need not be code of this crate.
func (r *rustReader) add(i int, optional bool) {
	optional = optional || r.macro > 0
	name := r.word(i)
	if nameLength(name) == 0 || strings.ToLower(name) != name || name == "_" {
		return
	}
	test := r.test > 0 || r.pending
	if n, ok := r.seen[name]; ok {
		have := &r.out.Imports[n]
		have.Test, have.Optional = have.Test && test, have.Optional && optional
		return
	}
	r.seen[name] = len(r.out.Imports)
	x := at(r.text, r.words[i].at, name)
	x.Test, x.Optional = test, optional
	r.out.Imports = append(r.out.Imports, x)
}
