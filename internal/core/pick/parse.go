// Package pick reads and evaluates the expressions that select tasks:
//
//	pick    = term { "or" term }
//	term    = factor { "and" factor }
//	factor  = "not" factor | "(" pick ")" | word | word "(" pick ")"
//	        | field ":" value | address | pattern | quoted
//
// A pick is a set of tasks. In go an expression, a graph and what has changed;
// out come tasks in the order of the graph, or an error that shows the
// expression with a caret under the place.
package pick

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Error is an error in an expression.
type Error struct {
	Expr    string
	At      int // in bytes
	Message string
}

func (e *Error) Error() string {
	caret := strings.Repeat(" ", utf8.RuneCountInString(e.Expr[:min(e.At, len(e.Expr))])) + "^"
	return fmt.Sprintf("%s\n  %s\n  %s", e.Message, e.Expr, caret)
}

// Words and fields of the grammar.
var (
	words     = []string{"all", "changed", "affected", "failed"}
	functions = []string{"needs", "needed_by"}
	fields    = []string{"tag", "kind", "owner", "pick", "commits"}
)

// Expr is a parsed expression.
type Expr struct {
	text string
	root node
}

type node struct {
	op   string // or, and, not, word, call, field, atom
	at   int
	text string // of words, fields' values and atoms
	name string // of calls and fields
	kids []node
}

// Parse reads an expression.
func Parse(text string) (Expr, error) {
	p := &parser{text: text}
	p.next()
	if p.tok == "" && !p.quoted {
		return Expr{}, p.fail(0, "an empty expression selects nothing: write \"all\" for everything")
	}
	n, err := p.pick()
	if err == nil && (p.tok != "" || p.quoted) {
		err = p.fail(p.at, fmt.Sprintf("%q is not expected here: join two expressions with \"or\" or \"and\"", p.tok))
	}
	return Expr{text, n}, err
}

type parser struct {
	text   string
	pos    int // of the text after the current token
	at     int // of the current token
	tok    string
	quoted bool
	err    error
}

func (p *parser) fail(at int, msg string) error {
	if p.err != nil {
		return p.err
	}
	return &Error{p.text, at, msg}
}

func (p *parser) next() {
	for p.pos < len(p.text) && strings.ContainsRune(" \t\n\r", rune(p.text[p.pos])) {
		p.pos++
	}
	p.at, p.tok, p.quoted = p.pos, "", false
	if p.pos == len(p.text) {
		return
	}
	switch c := p.text[p.pos]; c {
	case '(', ')':
		p.tok = string(c)
		p.pos++
	case '"', '\'':
		end := strings.IndexByte(p.text[p.pos+1:], c)
		if end < 0 {
			p.err = &Error{p.text, p.pos, "this quote is not closed"}
			p.pos = len(p.text)
			return
		}
		p.tok, p.quoted = p.text[p.pos+1:p.pos+1+end], true
		p.pos += end + 2
	default:
		end := strings.IndexAny(p.text[p.pos:], " \t\n\r()\"'")
		if end < 0 {
			end = len(p.text) - p.pos
		}
		p.tok = p.text[p.pos : p.pos+end]
		p.pos += end
	}
}

func (p *parser) is(word string) bool { return !p.quoted && p.tok == word }

func (p *parser) pick() (node, error) { return p.joined("or", p.term) }
func (p *parser) term() (node, error) { return p.joined("and", p.factor) }

func (p *parser) joined(op string, part func() (node, error)) (node, error) {
	n, err := part()
	if err != nil || !p.is(op) {
		return n, err
	}
	out := node{op: op, at: n.at, kids: []node{n}}
	for p.is(op) {
		p.next()
		if n, err = part(); err != nil {
			return n, err
		}
		out.kids = append(out.kids, n)
	}
	return out, nil
}

func (p *parser) factor() (node, error) {
	at := p.at
	switch {
	case p.err != nil:
		return node{}, p.err
	case p.tok == "" && !p.quoted:
		return node{}, p.fail(at, "something is missing here: a word, a pattern or an address")
	case p.is("not"):
		p.next()
		n, err := p.factor()
		return node{op: "not", at: at, kids: []node{n}}, err
	case p.is("("):
		p.next()
		return p.closed(at)
	case p.is(")"), p.is("or"), p.is("and"):
		return node{}, p.fail(at, fmt.Sprintf("something is missing before %q", p.tok))
	}
	tok, quoted := p.tok, p.quoted
	p.next()
	if quoted {
		return node{op: "atom", at: at, text: tok}, nil
	}
	if slices.Contains(functions, tok) {
		if !p.is("(") {
			return node{}, p.fail(p.at, fmt.Sprintf("%s needs an expression in brackets: %s(fares)", tok, tok))
		}
		p.next()
		n, err := p.closed(at)
		return node{op: "call", at: at, name: tok, kids: []node{n}}, err
	}
	if p.is("(") && p.at == at+len(tok) {
		return node{}, p.fail(at, fmt.Sprintf("%q is not a function: the functions are %s", tok, strings.Join(functions, " and ")))
	}
	if slices.Contains(words, tok) {
		return node{op: "word", at: at, text: tok}, nil
	}
	return p.field(at, tok)
}

func (p *parser) closed(open int) (node, error) {
	n, err := p.pick()
	if err != nil {
		return n, err
	}
	if !p.is(")") {
		return n, p.fail(open, "this bracket is not closed")
	}
	p.next()
	return n, nil
}

func (p *parser) field(at int, tok string) (node, error) {
	name, val, ok := strings.Cut(tok, ":")
	if !ok {
		return node{op: "atom", at: at, text: tok}, nil
	}
	if !slices.Contains(fields, name) {
		return node{}, p.fail(at, fmt.Sprintf("%q is not a field: the fields are %s", name, strings.Join(fields, ", ")))
	}
	if val == "" && p.quoted {
		val = p.tok
		p.next()
	}
	if val == "" {
		return node{}, p.fail(at+len(tok), fmt.Sprintf("%s: needs a value after it", name))
	}
	return node{op: "field", at: at, name: name, text: val}, nil
}
