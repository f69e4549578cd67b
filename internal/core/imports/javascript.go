package imports

import (
	"bytes"
	"path"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// IsScript tells whether a file is JavaScript, TypeScript, or a component with a
// script, by its name; a program in a directory bin may be one.
func IsScript(name string) bool {
	switch path.Ext(name) {
	case "":
		return isProgram(name)
	case ".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx", ".svelte", ".vue":
		return true
	}
	return false
}

// readScript reads the module specifiers that a text imports, exports from, requires or
// loads, each once, in order of appearance. It works on tokens, which JavaScript and
// TypeScript share, so type annotations do not matter; of components (Svelte, Vue), it
// reads the scripts.
func readScript(text string) File {
	out := File{Generated: isGenerated(text)}
	text = scripts(text)
	end := max(lastOf(text, "import", 2), lastOf(text, "require", 2), lastOf(text, "from", 0))
	stop := min(len(text), end+maxSpecifier) // the lexer copies what it reads
	seen := map[string]int{}
	for at, rounds := 0, 0; at <= end && rounds < maxRestarts; rounds++ {
		r := scriptReader{
			lexer: js.NewLexer(parse.NewInputString(text[at:stop])),
			text:  text,
			at:    at,
			seen:  seen,
			end:   end,
			out:   &out,
		}
		r.run()
		// The lexer stops at what it does not know, such as an apostrophe in the text
		// of an element: it starts again on the next line.
		next := strings.IndexByte(text[min(r.at, len(text)):], '\n')
		if next < 0 {
			break
		}
		at = r.at + next + 1
	}
	return out
}

// maxSpecifier is the most bytes from an import to the end of its specifier that are
// read.
const maxSpecifier = 512

// lastOf returns where a word is for the last time; -1 if it is not there. It searches
// forwards, which is many times faster, for the byte of the word with a number: the rarest.
func lastOf(text, word string, rare int) int {
	last := -1
	for from := rare; from < len(text); from++ {
		i := strings.IndexByte(text[from:], word[rare])
		if i < 0 {
			break
		}
		from += i
		if strings.HasPrefix(text[from-rare:], word) {
			last = from - rare
		}
	}
	return last
}

// maxRestarts limits how often the lexer starts again in one file: it copies the rest
// each time.
const maxRestarts = 200

// word is a token that is not white space or a comment.
type word struct {
	kind js.TokenType
	text string
}

type scriptReader struct {
	lexer     *js.Lexer
	text      string
	at        int
	before    [3]js.TokenType // the last tokens, the newest first
	end       int             // what is after it imports nothing
	statement []word          // since the last import or export
	depth     int             // of braces
	tries     []int           // the depths of the try and catch blocks around it
	trying    bool            // such a block begins with the next brace
	seen      map[string]int  // where a specifier is in the list of imports
	out       *File
}

// run reads up to what the lexer does not know, or to the end.
func (r *scriptReader) run() {
	for after := 0; after <= len(r.before); {
		tt, data := r.lexer.Next()
		if tt == js.ErrorToken {
			return
		}
		if (tt == js.DivToken || tt == js.DivEqToken) && regexpAllowed(r.before) {
			tt, data = r.lexer.RegExp()
		}
		start := r.at
		r.at += len(data)
		if tt == js.WhitespaceToken || tt == js.LineTerminatorToken || tt == js.CommentToken ||
			tt == js.CommentLineTerminatorToken {
			continue
		}
		if start > r.end {
			after++
		}
		if tt == js.StringToken && specifierAllowed(r.before) {
			r.found(start, strings.Trim(string(data), "'\""))
		}
		if tt == js.IdentifierToken && string(data) == "require" {
			tt = js.ImportToken // treats "require(" like "import("
		}
		r.follow(tt, data)
	}
}

func (r *scriptReader) follow(tt js.TokenType, data []byte) {
	r.before = [3]js.TokenType{tt, r.before[0], r.before[1]}
	r.block(tt)
	switch {
	case tt == js.ImportToken || tt == js.ExportToken:
		r.statement = append(r.statement[:0], word{tt, ""})
	case len(r.statement) == 0:
	case js.IsIdentifierName(tt):
		text := ""
		if len(data) <= 4 { // "type" and "as" are all that matters
			text = string(data)
		}
		r.statement = append(r.statement, word{tt, text})
	case tt == js.OpenBraceToken, tt == js.CloseBraceToken, tt == js.CommaToken, tt == js.MulToken:
		r.statement = append(r.statement, word{kind: tt})
	default: // the clause ends, or there is none
		r.statement = r.statement[:0]
	}
}

// block follows the blocks of try and catch: what is loaded there may be missing.
func (r *scriptReader) block(tt js.TokenType) {
	switch tt {
	case js.TryToken, js.CatchToken:
		r.trying = true
	case js.OpenBraceToken, js.TemplateStartToken:
		if r.depth++; r.trying {
			r.tries, r.trying = append(r.tries, r.depth), false
		}
	case js.CloseBraceToken, js.TemplateEndToken:
		if n := len(r.tries); n > 0 && r.tries[n-1] == r.depth {
			r.tries = r.tries[:n-1]
		}
		r.depth--
	}
}

func (r *scriptReader) found(start int, spec string) {
	types, optional := importsTypes(r.statement), len(r.tries) > 0
	if i, ok := r.seen[spec]; ok {
		have := &r.out.Imports[i]
		have.Types, have.Optional = have.Types && types, have.Optional && optional
		return
	}
	x := at(r.text, start, spec)
	x.Types, x.Optional = types, optional
	r.seen[spec] = len(r.out.Imports)
	r.out.Imports = append(r.out.Imports, x)
}

// importsTypes tells whether a statement, up to its specifier, imports or exports
// types only: import type …, or a list in which each name has "type" before it.
func importsTypes(s []word) bool {
	isType := func(i int) bool { return i < len(s) && s[i].text == "type" }
	if isType(1) && len(s) > 3 { // but: import type from "x", and import type, { x } from "x"
		return s[2].kind != js.CommaToken && (s[2].kind != js.FromToken || s[3].kind == js.FromToken)
	}
	if len(s) < 4 || s[1].kind != js.OpenBraceToken || s[2].kind == js.CloseBraceToken {
		return false
	}
	for i := 2; i < len(s) && s[i].kind != js.CloseBraceToken; i++ {
		first := s[i-1].kind == js.OpenBraceToken || s[i-1].kind == js.CommaToken
		named := i+1 < len(s) && js.IsIdentifierName(s[i+1].kind) && s[i+1].text != "as"
		if first && (!isType(i) || !named) {
			return false
		}
	}
	return true
}

// specifierAllowed tells whether a string after these tokens names a module:
// import "x", … from "x", import("x"), require("x").
func specifierAllowed(before [3]js.TokenType) bool {
	switch before[0] {
	case js.ImportToken, js.FromToken:
		return true
	case js.OpenParenToken:
		return before[1] == js.ImportToken
	}
	return false
}

// regexpAllowed tells whether a slash after these tokens starts a regular
// expression and not a division: it does unless a value has just ended.
func regexpAllowed(before [3]js.TokenType) bool {
	switch t := before[0]; t {
	case js.CloseParenToken,
		js.CloseBracketToken,
		js.CloseBraceToken,
		js.StringToken,
		js.TemplateToken,
		js.TemplateEndToken,
		js.ThisToken,
		js.SuperToken,
		js.TrueToken,
		js.FalseToken,
		js.NullToken:
		return false
	default:
		return !js.IsIdentifier(t) && !js.IsNumeric(t)
	}
}

// scripts returns the text of a component with everything but its scripts blanked,
// so that places stay; any other text as it is.
func scripts(text string) string {
	if !strings.HasPrefix(strings.TrimSpace(text), "<") {
		return text
	}
	blank := bytes.Repeat([]byte{' '}, len(text))
	for i := range len(text) {
		if text[i] == '\n' {
			blank[i] = '\n'
		}
	}
	for at := 0; ; {
		open := strings.Index(text[at:], "<script")
		if open < 0 {
			return string(blank)
		}
		at += open
		head := strings.IndexByte(text[at:], '>')
		if head < 0 {
			return string(blank)
		}
		at += head + 1
		end := strings.Index(text[at:], "</script>")
		if end < 0 {
			end = len(text) - at
		}
		copy(blank[at:at+end], text[at:at+end])
		at += end
	}
}
