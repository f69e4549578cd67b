package structure

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// TestPatternsCompile takes the place of compiling them when the program starts.
func TestPatternsCompile(t *testing.T) {
	found := 0
	fset := token.NewFileSet()
	err := filepath.WalkDir(filepath.Join("..", "..", "internal"), func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(fset, p, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) != 1 || !isPatternNew(call.Fun) {
				return true
			}
			found++
			expr, ok := literal(call.Args[0])
			if !ok {
				t.Errorf("%s: the pattern is not made of literals", fset.Position(call.Pos()))
			} else if _, err := regexp.Compile(expr); err != nil {
				t.Errorf("%s: %v", fset.Position(call.Pos()), err)
			}
			return true
		})
		return nil
	})
	if err != nil || found < 80 {
		t.Fatalf("%d patterns: %v", found, err)
	}
}

func isPatternNew(f ast.Expr) bool {
	s, ok := f.(*ast.SelectorExpr)
	if !ok || s.Sel.Name != "New" {
		return false
	}
	of, ok := s.X.(*ast.Ident)
	return ok && of.Name == "pattern"
}

// literal returns the value of literals that are joined.
func literal(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		s, err := strconv.Unquote(e.Value)
		return s, err == nil
	case *ast.BinaryExpr:
		a, okA := literal(e.X)
		b, okB := literal(e.Y)
		return a + b, okA && okB && e.Op == token.ADD
	}
	return "", false
}
