package structure

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// The limits of the code below internal, tests excluded.
const (
	medianLines   = 9   // of a function's body
	ninthLines    = 30  // nine of ten bodies are at most this long
	longestBody   = 70  // lines
	ninthFile     = 300 // lines
	deepest       = 4   // blocks within a function
	mostParams    = 5
	moreParams    = 2 // functions that may have more
	widest        = 140
	tabWidth      = 4
	documentedMin = 0.9 // of exported functions and methods
)

// figures are measured over many files.
type figures struct {
	t          *testing.T
	bodies     []int
	files      []int
	exported   int
	documented int
	withMore   []string
}

func TestCodeStaysReadable(t *testing.T) {
	f := &figures{t: t}
	root := filepath.Join("..", "..", "internal")
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		f.measure(p)
		return nil
	})
	if err != nil || len(f.files) < 100 {
		t.Fatalf("%d files: %v", len(f.files), err)
	}
	slices.Sort(f.bodies)
	slices.Sort(f.files)
	at := func(list []int, part float64) int { return list[int(part*float64(len(list)-1))] }
	t.Logf("bodies: median %d, ninth decile %d, longest %d; files: ninth decile %d; documented %d of %d",
		at(f.bodies, 0.5), at(f.bodies, 0.9), at(f.bodies, 1), at(f.files, 0.9), f.documented, f.exported)
	for _, limit := range []struct {
		what     string
		got, max int
	}{
		{"the median body", at(f.bodies, 0.5), medianLines},
		{"the ninth decile of bodies", at(f.bodies, 0.9), ninthLines},
		{"the longest body", at(f.bodies, 1), longestBody},
		{"the ninth decile of files", at(f.files, 0.9), ninthFile},
	} {
		if limit.got > limit.max {
			t.Errorf("%s has %d lines, the limit is %d", limit.what, limit.got, limit.max)
		}
	}
	if len(f.withMore) > moreParams {
		t.Errorf("more than %d parameters: %v; only %d functions may", mostParams, f.withMore, moreParams)
	}
	if share := float64(f.documented) / float64(f.exported); share < documentedMin {
		t.Errorf("%.0f %% of exported functions are documented, the limit is %.0f %%", 100*share, 100*documentedMin)
	}
}

func (f *figures) measure(path string) {
	f.t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		f.t.Fatal(err)
	}
	f.files = append(f.files, strings.Count(string(text), "\n"))
	for i, line := range strings.Split(string(text), "\n") {
		if n := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", strings.Repeat(" ", tabWidth))); n > widest {
			f.t.Errorf("%s:%d has %d columns, the limit is %d", path, i+1, n, widest)
		}
	}
	set := token.NewFileSet()
	parsed, err := parser.ParseFile(set, path, text, parser.ParseComments)
	if err != nil {
		f.t.Fatal(err)
	}
	for _, d := range parsed.Decls {
		if fn, ok := d.(*ast.FuncDecl); ok && fn.Body != nil {
			f.function(set, path, fn)
		}
	}
}

func (f *figures) function(set *token.FileSet, path string, fn *ast.FuncDecl) {
	f.t.Helper()
	f.bodies = append(f.bodies, max(1, set.Position(fn.Body.End()).Line-set.Position(fn.Body.Pos()).Line-1))
	name := path + " " + fn.Name.Name
	if d := depth(fn.Body) - 1; d > deepest {
		f.t.Errorf("%s nests %d blocks, the limit is %d", name, d, deepest)
	}
	params := 0
	for _, p := range fn.Type.Params.List {
		params += max(1, len(p.Names))
	}
	if params > mostParams {
		f.withMore = append(f.withMore, name)
	}
	if fn.Name.IsExported() {
		f.exported++
		if fn.Doc != nil {
			f.documented++
		}
	}
}

// depth returns how deep blocks are nested.
func depth(n ast.Node) int {
	most := 0
	ast.Inspect(n, func(m ast.Node) bool {
		if x, ok := m.(*ast.BlockStmt); ok && x != n {
			most = max(most, depth(x))
			return false
		}
		return true
	})
	if _, ok := n.(*ast.BlockStmt); ok {
		most++
	}
	return most
}
