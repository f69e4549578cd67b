// Package jsimport reads which modules JavaScript and TypeScript texts import. It
// works on tokens, which both languages share, so type annotations do not matter;
// of components (Svelte, Vue), it reads the scripts.
package jsimport

import (
	"bytes"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// IsScript tells whether a file is JavaScript, TypeScript, or a component with a
// script, by its name.
func IsScript(name string) bool {
	switch path.Ext(name) {
	case ".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx", ".svelte", ".vue":
		return true
	}
	return false
}

// Import is a module specifier and where it is first.
type Import struct {
	Spec         string
	Line, Column int // from 1, of the string; columns in characters
}

// Read returns the module specifiers that a text imports, exports from, requires or
// loads, each once, in order of appearance.
func Read(text string) (out []Import) {
	text = scripts(text)
	l := js.NewLexer(parse.NewInputString(text))
	seen := map[string]bool{}
	var before []js.TokenType // the last few tokens that are not white space or comments
	for at := 0; ; {
		tt, data := l.Next()
		if tt == js.ErrorToken {
			return out
		}
		if (tt == js.DivToken || tt == js.DivEqToken) && regexpAllowed(before) {
			tt, data = l.RegExp()
		}
		start := at
		at += len(data)
		if tt == js.WhitespaceToken || tt == js.LineTerminatorToken || tt == js.CommentToken || tt == js.CommentLineTerminatorToken {
			continue
		}
		if tt == js.StringToken && specifierAllowed(before) {
			if spec := strings.Trim(string(data), "'\""); !seen[spec] {
				seen[spec] = true
				out = append(out, found(text, start, spec))
			}
		}
		if tt == js.IdentifierToken && string(data) == "require" {
			tt = js.ImportToken // treats "require(" like "import("
		}
		if before = append(before, tt); len(before) > 3 {
			before = before[1:]
		}
	}
}

func found(text string, at int, spec string) Import {
	line := strings.LastIndexByte(text[:at], '\n') + 1
	return Import{spec, strings.Count(text[:at], "\n") + 1, utf8.RuneCountInString(text[line:at]) + 1}
}

func last(list []js.TokenType, n int) js.TokenType {
	if len(list) < n {
		return js.ErrorToken
	}
	return list[len(list)-n]
}

// specifierAllowed tells whether a string after these tokens names a module:
// import "x", … from "x", import("x"), require("x").
func specifierAllowed(before []js.TokenType) bool {
	switch last(before, 1) {
	case js.ImportToken, js.FromToken:
		return true
	case js.OpenParenToken:
		return last(before, 2) == js.ImportToken
	}
	return false
}

// regexpAllowed tells whether a slash after these tokens starts a regular
// expression and not a division: it does unless a value has just ended.
func regexpAllowed(before []js.TokenType) bool {
	switch t := last(before, 1); t {
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
