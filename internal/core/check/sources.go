package check

import (
	"go/ast"
	"go/build/constraint"
	"go/parser"
	"go/token"
	"io/fs"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/jsimport"
)

// source is what a Go, JavaScript or TypeScript file imports.
type source struct {
	imports []jsimport.Import
	// generated tells that a program wrote it, or that it is not part of its package:
	// what it imports is used, and need not be declared.
	generated bool
}

// source returns what a file imports. All files are read at once, by several
// threads; only their imports stay in memory.
func (in *inspection) source(file string) source {
	if in.sources == nil {
		in.sources = map[string]source{}
		var mu sync.Mutex
		var group errgroup.Group
		group.SetLimit(runtime.GOMAXPROCS(0))
		for _, f := range in.Files {
			if adopt.Foreign(f) || !strings.HasSuffix(f, ".go") && !jsimport.IsScript(f) {
				continue
			}
			group.Go(func() error {
				s := readSource(f, in.fresh(f))
				mu.Lock()
				defer mu.Unlock()
				in.sources[f] = s
				return nil
			})
		}
		_ = group.Wait() // none of them fails
	}
	return in.sources[file]
}

// fresh returns the content of a file without keeping it.
func (in *inspection) fresh(name string) string {
	data, err := fs.ReadFile(in.FS, name)
	if err != nil {
		return ""
	}
	return string(data)
}

func readSource(file, text string) (s source) {
	if !strings.HasSuffix(file, ".go") {
		head := text[:min(len(text), 400)]
		return source{jsimport.Read(text), strings.Contains(head, "DO NOT EDIT") || strings.Contains(head, "@generated")}
	}
	fset := token.NewFileSet()
	f, err := parser.ParseFile(fset, file, text, parser.ImportsOnly|parser.ParseComments)
	if err != nil {
		return s
	}
	s.generated = ast.IsGenerated(f) || isIgnored(f)
	for _, imp := range f.Imports {
		if pkg, err := strconv.Unquote(imp.Path.Value); err == nil {
			pos := fset.Position(imp.Path.Pos())
			s.imports = append(s.imports, jsimport.Import{Spec: pkg, Line: pos.Line, Column: pos.Column})
		}
	}
	return s
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
