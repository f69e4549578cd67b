package change

import (
	"path"
	"slices"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
)

// HasDeclarations tells whether a file contains declarations of the repository.
func HasDeclarations(g *graph.Graph, file string) bool {
	return path.Base(file) == decl.ProjectFile || file == decl.RootFile || slices.Contains(g.Repo.Files, file)
}

// Base is what the declarations of an earlier commit say, as far as changes are compared with it.
type Base struct {
	Declared map[string]digest.Digest // [Declaration] by the address of the task
	Dirs     []string                 // of projects, sorted
}

// BaseOf returns what declarations say.
func BaseOf(g *graph.Graph) *Base {
	b := &Base{Declared: make(map[string]digest.Digest, len(g.Tasks))}
	for _, t := range g.Tasks {
		b.Declared[t.Addr()] = Declaration(t)
	}
	for _, p := range g.Projects {
		b.Dirs = append(b.Dirs, p.Dir)
	}
	slices.Sort(b.Dirs)
	return b
}

// LoadBase loads the declarations of an earlier commit from the texts of its
// files, for a repository of that name. Before the first declaration there are
// no tasks. Modes and sets choose the settings as in the current graph; where
// the earlier declarations do not know them, their defaults stay.
func LoadBase(texts map[string][]byte, name string, modes, sets []string) (*Base, error) {
	files := fstest.MapFS{}
	for p, b := range texts {
		files[p] = &fstest.MapFile{Data: b}
	}
	if _, ok := texts[decl.RootFile]; !ok {
		files = fstest.MapFS{decl.RootFile: {Data: []byte("schema = 1\n")}}
	}
	g, err := graph.Load(files, name)
	if err != nil {
		return nil, err
	}
	if vals, err := g.Repo.Choose(modes, sets); err == nil {
		g.Chosen = vals
	}
	return BaseOf(g), nil
}
