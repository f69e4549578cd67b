package imports

import (
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
)

// readPython reads the import statements of a Python file, wherever they are:
// https://docs.python.org/3/reference/simple_stmts.html#import. Relative imports name
// no package and are left out.
func readPython(_, text string) File {
	out := File{Generated: isGenerated(text)}
	p := pythonReader{text: text, out: &out, seen: map[string]bool{}}
	p.run()
	return out
}

// pythonWord is a name or a sign of a line.
type pythonWord struct {
	text string
	at   int
}

// pythonBlock is a block in which imports mean something else.
type pythonBlock struct {
	indent          int
	optional, types bool
}

type pythonReader struct {
	text   string
	out    *File
	seen   map[string]bool
	line   []pythonWord // the logical line that is being read
	blocks []pythonBlock
	// conditional tells that the last if was for some platforms or versions.
	conditional bool
}

// pythonText matches the strings that may name a module: a dotted name, or the
// driver in an address such as postgresql+driver://.
var pythonText = pattern.New(`^(?:[a-z]+\+([a-z0-9_]+)://.*|([A-Za-z_][A-Za-z0-9_]*)(?:\.[A-Za-z_][A-Za-z0-9_]*)*)$`)

// run reads the text line by line: logical lines, which brackets, strings and
// backslashes continue.
func (p *pythonReader) run() {
	depth := 0
	for i := 0; i < len(p.text); {
		c := p.text[i]
		switch {
		case c == '#':
			i += lineLength(p.text[i:])
		case c == '\n' && depth == 0:
			p.finish()
			i++
		case c == '\\' && strings.HasPrefix(strings.TrimPrefix(p.text[i+1:], "\r"), "\n"):
			i += lineLength(p.text[i:]) + 1
		case c == '"' || c == '\'':
			n := pythonString(p.text[i:])
			p.mention(strings.Trim(p.text[i:i+n], `"'`))
			p.line = append(p.line, pythonWord{`""`, i})
			i += n
		case c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '\f':
			i++
		default:
			name := p.text[i : i+max(nameLength(p.text[i:]), 1)]
			p.line = append(p.line, pythonWord{name, i})
			depth = max(depth+strings.Count("([{", name)-strings.Count(")]}", name), 0)
			i += len(name)
		}
	}
	p.finish()
}

func lineLength(text string) int {
	if n := strings.IndexByte(text, '\n'); n >= 0 {
		return n
	}
	return len(text)
}

// pythonString returns the length of the string that a text starts with: up to its
// closing quotes or, of a short one, to the end of the line.
func pythonString(text string) int {
	quote := text[:1]
	if triple := strings.Repeat(quote, 3); strings.HasPrefix(text, triple) {
		quote = triple
	}
	for i := len(quote); i < len(text); i++ {
		switch {
		case strings.HasPrefix(text[i:], quote):
			return i + len(quote)
		case text[i] == '\\': // in raw strings, too, it keeps a quote from ending them
			i++
		case text[i] == '\n' && len(quote) == 1:
			return i
		}
	}
	return len(text)
}

func (p *pythonReader) mention(text string) {
	if n := nameLength(text); n == 0 || n < len(text) && text[n] != '.' && text[n] != '+' {
		return // most strings
	}
	if m := pythonText.FindStringSubmatch(text); m != nil {
		p.out.Mentions = append(p.out.Mentions, strings.Clone(m[1]+m[2]))
	}
}

// finish looks at a logical line: which blocks it ends and starts, and what it imports.
func (p *pythonReader) finish() {
	line := p.line
	p.line = p.line[:0]
	if len(line) == 0 {
		return
	}
	indent := line[0].at - strings.LastIndexByte(p.text[:line[0].at], '\n') - 1
	p.blocks = slices.DeleteFunc(p.blocks, func(b pythonBlock) bool { return b.indent >= indent })
	p.begin(line, indent)
	for i, w := range line {
		starts := i == 0 || line[i-1].text == ";" || line[i-1].text == ":"
		switch {
		case starts && w.text == "import":
			p.importList(line[i+1:])
		case starts && w.text == "from":
			if name, at := dotted(line[i+1:]); name != "" {
				p.add(name, at)
			}
		}
	}
}

// begin starts the block that a line begins, if imports in it mean something else: what is
// tried, what is for some platforms or versions, and what is for types.
func (p *pythonReader) begin(line []pythonWord, indent int) {
	has := func(words ...string) bool {
		return slices.ContainsFunc(line, func(w pythonWord) bool { return slices.Contains(words, w.text) })
	}
	b := pythonBlock{indent: indent}
	switch line[0].text {
	case "try", "except":
		b.optional = true
	case "if", "elif":
		b.types = has("TYPE_CHECKING") && !has("not")
		b.optional = has("platform", "version_info", "PY2", "PY3", "implementation")
		p.conditional = b.optional
	case "else":
		b.optional = p.conditional
	}
	if b.optional || b.types {
		p.blocks = append(p.blocks, b)
	}
}

// importList reads what follows import: dotted names, separated by commas.
func (p *pythonReader) importList(list []pythonWord) {
	for i := range list {
		if i > 0 && list[i-1].text == ";" {
			return
		}
		if i == 0 || list[i-1].text == "," {
			if name, at := dotted(list[i:]); name != "" {
				p.add(name, at)
			}
		}
	}
}

// dotted returns the dotted name that a list starts with; none for a relative one.
func dotted(list []pythonWord) (name string, at int) {
	for i, w := range list {
		if i%2 == 0 && nameLength(w.text) == 0 || i%2 == 1 && w.text != "." {
			break
		}
		if i == 0 {
			at = w.at
		}
		name += w.text
	}
	return strings.TrimSuffix(name, "."), at
}

func (p *pythonReader) add(name string, start int) {
	if p.seen[name] {
		return
	}
	p.seen[name] = true
	x := at(p.text, start, name)
	for _, b := range p.blocks {
		x.Optional = x.Optional || b.optional
		x.Types = x.Types || b.types
	}
	p.out.Imports = append(p.out.Imports, x)
}
