package decl

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// reader turns the tables of one document into declarations and collects the
// problems.
type reader struct {
	doc      *document
	problems *Problems
}

func (r *reader) fail(pos Pos, advice, format string, args ...any) {
	p := Problem{Pos: pos, Message: fmt.Sprintf(format, args...), Advice: advice}
	*r.problems = append(*r.problems, *r.doc.problem(p))
}

// field reads one entry of a table.
type field func(e *entry)

// table passes every entry to the field with its name; an unknown key is a
// problem that suggests the likely intended one.
func (r *reader) table(t *table, where string, fields map[string]field) {
	for _, e := range t.entries {
		if f, ok := fields[e.key]; ok {
			f(e)
			continue
		}
		known := slices.Sorted(func(yield func(string) bool) {
			for k := range fields {
				if !yield(k) {
					return
				}
			}
		})
		r.fail(e.pos, meant(e.key, known), "unknown key %q in %s", e.key, where)
	}
}

func (r *reader) wrong(e *entry, want, example string) {
	r.fail(e.val.pos, "write it like "+example, "%q must be %s, but this is %s", e.key, want, e.val.name())
}

func (r *reader) sub(e *entry, use func(t *table)) {
	if e.val.table == nil || e.val.kind == unstable.ArrayTable {
		r.wrong(e, "a table", "["+e.key+"]")
		return
	}
	use(e.val.table)
}

// named reads a table of tables: [probe.go], [kind.x], [task.build].
func (r *reader) named(e *entry, what string, use func(name string, e *entry)) {
	r.sub(e, func(t *table) {
		for _, one := range t.entries {
			if one.val.table == nil || one.val.kind == unstable.ArrayTable {
				r.fail(one.pos, fmt.Sprintf("write [%s.%s]", e.key, one.key), "%q must be a table, but this is %s", one.key, one.val.name())
				continue
			}
			if msg := badName(one.key, what == "kind"); msg != "" {
				r.fail(one.pos, "choose another name", "%s %q: %s", what, one.key, msg)
				continue
			}
			use(one.key, one)
		}
	})
}

// examples are strings in place of what a number or true would suggest.
var examples = map[string]string{"timeout": "90s", "reuse": "never", "isolation": "sealed"}

func (r *reader) text(to *Item) field {
	return func(e *entry) {
		if e.val.kind != unstable.String {
			r.wrong(e, "a string", fmt.Sprintf("%s = %q", e.key, cmp.Or(examples[e.key], "…")))
			return
		}
		*to = Item{e.val.text, e.val.pos}
	}
}

// word reads a string that may not be empty.
func (r *reader) word(to *Item) field {
	return func(e *entry) {
		r.text(to)(e)
		if e.val.kind == unstable.String && e.val.text == "" {
			r.fail(e.val.pos, "leave it out, or give it a value", "%q is empty", e.key)
		}
	}
}

// atom keeps a string, number or boolean as text after checking its type.
func (r *reader) atom(to *Item, kind unstable.Kind, want, example string) field {
	return func(e *entry) {
		if e.val.kind != kind {
			r.wrong(e, want, e.key+" = "+example)
			return
		}
		*to = Item{e.val.text, e.val.pos}
	}
}

func (r *reader) list(to *List) field {
	return func(e *entry) {
		l, ok := r.strings(e)
		if ok {
			*to = l
		}
	}
}

func (r *reader) listOrText(to *List) field {
	return func(e *entry) {
		if e.val.kind == unstable.String {
			*to = List{Given: true, Pos: e.pos, Items: []Item{{e.val.text, e.val.pos}}}
			return
		}
		r.list(to)(e)
	}
}

func (r *reader) strings(e *entry) (List, bool) {
	example := fmt.Sprintf("%s = [\"…\"]", e.key)
	if e.val.kind != unstable.Array {
		r.wrong(e, "a list of strings", example)
		return List{}, false
	}
	l := List{Given: true, Pos: e.pos}
	for _, v := range e.val.list {
		if v.kind != unstable.String {
			r.fail(v.pos, "write it like "+example, "%q must contain only strings, but this is %s", e.key, v.name())
			return List{}, false
		}
		l.Items = append(l.Items, Item{v.text, v.pos})
	}
	return l, true
}

func (r *reader) command(to *Command) field {
	return func(e *entry) {
		to.Pos = e.val.pos // it was given, even if it is wrong
		if e.val.kind == unstable.String {
			if strings.TrimSpace(e.val.text) == "" {
				r.fail(e.val.pos, "write the command to run", "%q is empty", e.key)
				return
			}
			*to = Command{Shell: e.val.text, Pos: e.val.pos}
			return
		}
		if e.val.kind != unstable.Array {
			r.wrong(e, "a string for the shell or a list of words", `run = "go build ./..."`)
			return
		}
		l, ok := r.strings(e)
		if !ok {
			return
		}
		if len(l.Items) == 0 || l.Items[0].Text == "" {
			r.fail(e.pos, "write the command to run", "%q is empty", e.key)
			return
		}
		*to = Command{Argv: l.Texts(), Pos: e.pos}
	}
}

func (r *reader) task(name string, e *entry) *TaskDecl {
	t := &TaskDecl{Name: name, Pos: e.pos}
	r.table(e.val.table, "[task."+name+"]", map[string]field{
		"run":      r.command(&t.Run),
		"reads":    r.list(&t.Reads),
		"writes":   r.list(&t.Writes),
		"after":    r.list(&t.After),
		"env":      r.list(&t.Env),
		"probes":   r.list(&t.Probes),
		"reuse":    r.word(&t.Reuse),
		"help":     r.text(&t.Help),
		"timeout":  r.word(&t.Timeout),
		"slots":    r.atom(&t.Slots, unstable.Integer, "a whole number", "2"),
		"portable": r.atom(&t.Portable, unstable.Bool, "true or false", "true"),

		"env_unkeyed": r.list(&t.EnvUnkeyed),
		"secrets":     r.list(&t.Secrets),
		"opens":       r.list(&t.Opens),
		"reports":     r.list(&t.Reports),
		"scratch":     r.list(&t.Scratch),
		"settings":    r.list(&t.Settings),
		"locks":       r.list(&t.Locks),
		"isolation":   r.word(&t.Isolation),
		"network":     r.atom(&t.Network, unstable.Bool, "true or false", "true"),
		"retries":     r.atom(&t.Retries, unstable.Integer, "a whole number", "1"),
	})
	return t
}

// reserved are the keywords of picks, which cannot be names.
var reserved = []string{"or", "and", "not", "all", "changed", "affected", "failed", "needs", "needed_by", "tag", "kind", "owner",
	"pick", "commits"}

// forbidden are the characters that no name contains, beside @ and :.
const forbidden = " \t\r\n\"'()!*?[]{}\\,"

// NameFrom makes a name for a repository of a text, such as the name of its directory.
func NameFrom(text string) string {
	words := strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(forbidden+"@:/", c) })
	if name := strings.TrimLeft(strings.Join(words, "-"), "-."); name != "" {
		return name
	}
	return "repository"
}

// badName says what is wrong with the name of a task, project, kind or probe;
// "" if nothing is.
func badName(s string, anyWord bool) string {
	switch {
	case s == "":
		return "a name must not be empty"
	case strings.ContainsAny(s, "@:"):
		return "a name must not contain @ or :"
	case strings.ContainsAny(s, forbidden):
		return "a name must not contain spaces, quotes, brackets or wildcards"
	case strings.HasPrefix(s, "-") || strings.HasPrefix(s, "./"):
		return "a name must not start with - or ./"
	case !anyWord && slices.Contains(reserved, s):
		return "it is a keyword of picks"
	}
	return ""
}
