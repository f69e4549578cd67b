package imports

import (
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// Rules of style sheets that may name a package. The same string may name a file
// beside the sheet: so it is a mention and no import.
var sheetRules = []string{"@import", "@plugin", "@use", "@forward", "@config", "@reference"}

// readCSS reads which packages a style sheet may import:
// https://www.w3.org/TR/css-cascade-5/#at-import, and the at-rules of tools.
func readCSS(_, text string) (out File) {
	l := css.NewLexer(parse.NewInputString(text))
	named := false // within a rule that may name a package, before the name
	for {
		tt, data := l.Next()
		switch tt {
		case css.ErrorToken:
			return out
		case css.WhitespaceToken, css.CommentToken:
		case css.AtKeywordToken:
			named = slices.Contains(sheetRules, string(data))
		case css.StringToken, css.URLToken:
			spec := strings.Trim(strings.TrimSuffix(strings.TrimPrefix(string(data), "url("), ")"), "\"' ")
			if named {
				out.Mentions = append(out.Mentions, strings.TrimPrefix(strings.TrimPrefix(spec, "~"), "pkg:"))
			}
			named = false
		case css.FunctionToken: // url( with a string in it
		default:
			named = false
		}
	}
}
