package imports

import (
	"go/ast"
	"go/build/constraint"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
)

// readGo reads a Go file, whatever its build constraints are: https://go.dev/ref/spec.
func readGo(name, text string) (out File) {
	fset := token.NewFileSet()
	f, err := parser.ParseFile(fset, name, text, parser.ImportsOnly|parser.ParseComments|parser.SkipObjectResolution)
	if err != nil || f.Name == nil {
		return File{Broken: true}
	}
	out.Package = f.Name.Name
	out.Generated = ast.IsGenerated(f) || isIgnored(f)
	for _, imp := range f.Imports {
		if pkg, err := strconv.Unquote(imp.Path.Value); err == nil {
			x := at(text, fset.Position(imp.Path.Pos()).Offset, pkg)
			x.Test = strings.HasSuffix(name, "_test.go")
			out.Imports = append(out.Imports, x)
		}
	}
	return out
}

// isIgnored tells whether a Go file is built only with the tag "ignore", that is, run
// by name and not part of its package: go.mod need not have what it imports.
func isIgnored(f *ast.File) bool {
	for _, group := range f.Comments {
		for _, c := range group.List {
			if x, err := constraint.Parse(c.Text); err == nil && c.Pos() < f.Package && needsIgnore(x) {
				return true
			}
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
