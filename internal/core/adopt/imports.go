package adopt

import (
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// imports returns the module specifiers that a JavaScript or TypeScript text
// imports, exports from, requires or loads, each once, in order of appearance.
// It works on tokens, which both languages share, so type annotations do not
// matter.
func imports(text string) []string {
	text = scriptPart(text)
	l := js.NewLexer(parse.NewInputString(text))
	var out []string
	seen := map[string]bool{}
	var before []js.TokenType // the last few tokens that are not white space or comments
	for {
		tt, data := l.Next()
		if tt == js.ErrorToken {
			return out
		}
		if tt == js.WhitespaceToken || tt == js.LineTerminatorToken || tt == js.CommentToken || tt == js.CommentLineTerminatorToken {
			continue
		}
		if (tt == js.DivToken || tt == js.DivEqToken) && regexpAllowed(before) {
			tt, data = l.RegExp()
		}
		if tt == js.StringToken && specifierAllowed(before) {
			if spec := strings.Trim(string(data), "'\""); !seen[spec] {
				seen[spec] = true
				out = append(out, spec)
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

// scriptPart returns the scripts inside a component's markup.
func scriptPart(text string) string {
	trimmed := strings.TrimSpace(text)
	if !strings.HasPrefix(trimmed, "<") {
		return text
	}
	var b strings.Builder
	for {
		_, rest, ok := strings.Cut(text, "<script")
		if !ok {
			return b.String()
		}
		_, rest, _ = strings.Cut(rest, ">")
		body, after, _ := strings.Cut(rest, "</script>")
		b.WriteString(body + "\n")
		text = after
	}
}
