package adopt

import (
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// imports returns the module specifiers that a JavaScript or TypeScript text
// imports, exports from, requires or loads, each once, in their order. It goes
// by tokens, which both languages share, so that types do not disturb it.
func imports(text string) []string {
	text = scriptPart(text)
	l := js.NewLexer(parse.NewInputString(text))
	var out []string
	seen := map[string]bool{}
	var before []js.TokenType // the last few tokens that carry meaning
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
			tt = js.ImportToken // "require(" stands like "import("
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

// specifierMayStand tells whether a string after these tokens names a module:
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

// regexpMayStand tells whether a slash after these tokens begins a regular
// expression rather than divides: it does where no value has just ended.
func regexpAllowed(before []js.TokenType) bool {
	switch t := last(before, 1); t {
	case js.CloseParenToken, js.CloseBracketToken, js.CloseBraceToken, js.StringToken, js.TemplateToken, js.TemplateEndToken, js.ThisToken, js.SuperToken, js.TrueToken, js.FalseToken, js.NullToken:
		return false
	default:
		return !js.IsIdentifier(t) && !js.IsNumeric(t)
	}
}

// scriptPart returns the scripts of a component that has markup around them.
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
