package adopt

import (
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"
)

// text is a TOML text that grows at its end.
type text struct {
	b       strings.Builder
	pairs   [][2]string
	holders []string // to insert into [repo] projects of the existing text
	skip    []string // the same, of [adopt] skip
}

func (x *text) raw(s string) { x.b.WriteString(s) }

func (x *text) key(name, val string) { x.pairs = append(x.pairs, [2]string{name, quote(val)}) }

// list writes a list, unless it is empty.
func (x *text) list(name string, vals []string) {
	if len(vals) > 0 {
		x.always(name, vals)
	}
}

func (x *text) always(name string, vals []string) {
	out := make([]string, len(vals))
	for i, v := range vals {
		out[i] = quote(v)
	}
	x.pairs = append(x.pairs, [2]string{name, "[" + strings.Join(out, ", ") + "]"})
}

// aligned returns the pairs with aligned equals signs.
func (x *text) aligned() string {
	wide := 0
	for _, p := range x.pairs {
		wide = max(wide, len(p[0]))
	}
	var b strings.Builder
	for _, p := range x.pairs {
		b.WriteString(runewidth.FillRight(p[0], wide) + " = " + p[1] + "\n")
	}
	return b.String()
}

func (x *text) comment(s string) {
	if s != "" {
		x.b.WriteString("\n# " + strings.ReplaceAll(s, "\n", " "))
	}
}

func (x *text) table(head, rows string) { x.b.WriteString("\n[" + head + "]\n" + rows) }

// quote returns a TOML string.
func quote(s string) string {
	if strings.ContainsAny(s, "\"\\") && !strings.ContainsAny(s, "'\n\r\t") && isPrintable(s) {
		return "'" + s + "'"
	}
	return strconv.Quote(s)
}

func isPrintable(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// tableName returns a name in the form that a table header needs.
func tableName(name string) string {
	if strings.ContainsFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_')
	}) {
		return quote(name)
	}
	return name
}

func (w *proposer) text(file string) *text {
	x := w.texts[file]
	if x == nil {
		x = &text{}
		w.texts[file] = x
	}
	return x
}

// files assembles what is written: new files in full; existing files get
// additions at the end, and nothing else in them changes.
func (w *proposer) files() {
	for _, name := range sortedKeys(w.texts) {
		x := w.texts[name]
		add := x.b.String()
		f := File{Path: name}
		if b, err := fs.ReadFile(w.s.Repo.FS, name); err == nil {
			f.Old = string(b)
			f.New = withItems(withItems(f.Old, "repo", "projects", x.holders), "adopt", "skip", x.skip)
			if add != "" {
				f.New = strings.TrimRight(f.New, "\n") + "\n" + add
			}
		} else {
			f.New = strings.TrimLeft(add, "\n")
		}
		if f.New != f.Old {
			w.out.Files = append(w.out.Files, f)
		}
	}
	slices.SortFunc(w.out.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
}

// withItems adds items to a list in a table of a text, or adds the list itself, and
// leaves everything else unchanged.
func withItems(old, table, key string, add []string) string {
	if len(add) == 0 {
		return old
	}
	quoted := make([]string, len(add))
	for i, a := range add {
		quoted[i] = quote(a)
	}
	items := strings.Join(quoted, ", ")
	at, end := listOf(old, table, key)
	if at < 0 {
		if i := strings.Index(old, "["+table+"]"); i >= 0 {
			i += strings.IndexByte(old[i:]+"\n", '\n')
			return old[:i] + "\n" + key + " = [" + items + "]" + old[i:]
		}
		return strings.TrimRight(old, "\n") + "\n\n[" + table + "]\n" + key + " = [" + items + "]\n"
	}
	inside := strings.TrimRight(old[at+1:end], " \t\n")
	bare := strings.TrimSpace(inside)
	switch {
	case bare == "":
		return old[:at+1] + items + old[end:]
	case strings.Contains(old[at+1:end], "\n"):
		lead := "\n  "
		if !strings.HasSuffix(stripComment(inside), ",") {
			inside = addComma(inside)
		}
		return old[:at+1] + inside + lead + items + ",\n" + old[end:]
	}
	return old[:at+1] + strings.TrimSuffix(inside, ",") + ", " + items + old[end:]
}

func stripComment(s string) string {
	line := s[strings.LastIndexByte(s, '\n')+1:]
	if i := commentAt(line); i >= 0 {
		line = line[:i]
	}
	return strings.TrimSpace(line)
}

// addComma puts a comma after the last value, before a comment on its line.
func addComma(s string) string {
	start := strings.LastIndexByte(s, '\n') + 1
	line := s[start:]
	if i := commentAt(line); i >= 0 {
		head := strings.TrimRight(line[:i], " \t")
		return s[:start] + head + "," + line[len(head):]
	}
	return s + ","
}

// commentAt returns the position of a comment in a line, or -1.
func commentAt(line string) int {
	var in byte
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case in == '"' && c == '\\':
			i++
		case in != 0:
			if c == in {
				in = 0
			}
		case c == '"' || c == '\'':
			in = c
		case c == '#':
			return i
		}
	}
	return -1
}

// listOf returns the start and end of the list under a key of a table, or -1.
func listOf(text, table, key string) (at, end int) {
	pos, inTable := 0, false
	for line := range strings.Lines(text) {
		trimmed := strings.TrimSpace(line)
		if strings.HasPrefix(trimmed, "[") {
			inTable = strings.HasPrefix(trimmed, "["+table+"]")
		}
		rest, ok := strings.CutPrefix(trimmed, key)
		if inTable && ok && strings.HasPrefix(strings.TrimSpace(rest), "=") {
			at = pos + strings.IndexByte(line, '[')
			return at, closing(text, at)
		}
		pos += len(line)
	}
	return -1, -1
}

// closing returns the position where the list that opens at a position closes.
func closing(text string, at int) int {
	depth := 0
	for i := at; i < len(text); i++ {
		switch text[i] {
		case '"', '\'':
			quote := text[i]
			for i++; i < len(text) && text[i] != quote; i++ {
				if text[i] == '\\' && quote == '"' {
					i++
				}
			}
		case '#':
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case '[':
			depth++
		case ']':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(text)
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
