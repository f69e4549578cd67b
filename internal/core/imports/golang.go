package imports

import (
	"go/build/constraint"
	"go/scanner"
	"go/token"
	"strconv"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
)

// readGo reads a Go file up to its last import, whatever its build constraints are:
// https://go.dev/ref/spec#Import_declarations.
func readGo(name, text string) File {
	if end := strings.Index(text, "\nfunc "); end >= 0 { // the scanner copies what it reads
		if out := readGoHead(name, text[:end+1]); !out.Broken {
			return out
		}
	}
	return readGoHead(name, text)
}

func readGoHead(name, text string) File {
	r := goReader{text: text, test: strings.HasSuffix(name, "_test.go")}
	file := token.NewFileSet().AddFile(name, -1, len(text))
	r.scanner.Init(file, []byte(text), func(token.Position, string) { r.broken = true }, 0)
	r.base = file.Base()
	clause, _ := r.next()
	start := r.at
	kind, pkg := r.next()
	if clause != token.PACKAGE || kind != token.IDENT {
		return File{Broken: true}
	}
	r.out.Package = pkg
	r.out.Generated = strings.Contains(text[:start], "DO NOT EDIT") && generatedGo.MatchString(text[:start]) ||
		isIgnored(text[:start])
	r.declarations()
	if r.broken {
		return File{Broken: true}
	}
	return r.out
}

// generatedGo matches the line that says that a program wrote a Go file:
// https://go.dev/s/generatedcode.
var generatedGo = pattern.New(`(?m)^// Code generated .* DO NOT EDIT\.\r?$`)

type goReader struct {
	scanner scanner.Scanner
	text    string
	base    int
	at      int // where the token is
	test    bool
	broken  bool
	out     File
}

func (r *goReader) next() (token.Token, string) {
	pos, kind, text := r.scanner.Scan()
	r.at = int(pos) - r.base
	return kind, text
}

// declarations reads the import declarations: each one name and string, or several
// between parentheses.
func (r *goReader) declarations() {
	if kind, _ := r.next(); kind != token.SEMICOLON {
		r.broken = kind != token.EOF
		return
	}
	inGroup := false
	for {
		kind, text := r.next()
		switch {
		case kind == token.STRING:
			r.add(text)
		case kind == token.LPAREN && !inGroup:
			inGroup = true
		case kind == token.RPAREN && inGroup:
			inGroup = false
		case kind == token.IMPORT, kind == token.SEMICOLON, kind == token.PERIOD, kind == token.IDENT:
		default:
			r.broken = r.broken || inGroup // the first declaration of another kind, or the end
			return
		}
	}
}

func (r *goReader) add(quoted string) {
	if pkg, err := strconv.Unquote(quoted); err == nil {
		x := at(r.text, r.at, pkg)
		x.Test = r.test
		r.out.Imports = append(r.out.Imports, x)
	}
}

// isIgnored tells whether a Go file is built only with the tag "ignore", that is, run
// by name and not part of its package: go.mod need not have what it imports.
func isIgnored(head string) bool {
	if !strings.Contains(head, "build") {
		return false
	}
	for line := range strings.Lines(head) {
		if x, err := constraint.Parse(strings.TrimRight(line, "\r\n")); err == nil && needsIgnore(x) {
			return true
		}
	}
	return false
}

func needsIgnore(x constraint.Expr) bool {
	switch x := x.(type) {
	case *constraint.TagExpr:
		return x.Tag == "ignore"
	case *constraint.AndExpr:
		return needsIgnore(x.X) || needsIgnore(x.Y)
	}
	return false
}
