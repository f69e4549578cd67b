// Package sample makes repositories for tests of what is found in them, and of what is proposed.
package sample

import (
	"io/fs"
	"maps"
	"slices"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/survey"
)

// Repo makes a repository of files.
func Repo(files map[string]string) *survey.Repo {
	fsys := fstest.MapFS{}
	for name, text := range files {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return &survey.Repo{FS: fsys, Name: "skerry", Files: slices.Sorted(maps.Keys(files))}
}

// Propose inspects a repository, accepts every default, and checks that the
// declarations are valid.
func Propose(t *testing.T, r *survey.Repo, c survey.Choices) (*survey.Survey, *adopt.Proposal) {
	t.Helper()
	s := survey.Inspect(r, c)
	p := adopt.Propose(s, adopt.Basics{Name: "skerry", Since: "main"}, nil)
	Written(t, r, p)
	return s, p
}

// Written writes a proposal into a repository, and fails if its declarations are not valid.
func Written(t *testing.T, r *survey.Repo, p *adopt.Proposal) *graph.Graph {
	t.Helper()
	out := fstest.MapFS{}
	for _, name := range r.Files {
		b, err := fs.ReadFile(r.FS, name)
		if err != nil {
			t.Fatal(err)
		}
		out[name] = &fstest.MapFile{Data: b}
	}
	for _, f := range p.Files {
		out[f.Path] = &fstest.MapFile{Data: []byte(f.New)}
	}
	g, err := graph.Load(out, "skerry")
	if err != nil {
		for _, f := range p.Files {
			t.Logf("%s\n%s", f.Path, f.New)
		}
		t.Fatal(err)
	}
	r.FS, r.Files = out, slices.Sorted(maps.Keys(out))
	return g
}

// Of returns the project of a directory; an empty one if there is none.
func Of(s *survey.Survey, dir string) *survey.Project {
	for _, p := range s.Projects {
		if p.Dir == dir {
			return p
		}
	}
	return &survey.Project{Dir: "none of " + dir}
}

// Needs returns the directories of what a project needs.
func Needs(p *survey.Project) []string {
	var out []string
	for _, n := range p.Needs {
		out = append(out, n.Dir)
	}
	return out
}
