package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
)

// repository is a loaded repository.
type repository struct {
	root  string
	graph *graph.Graph
	git   git.Repo
	here  string // the working directory, from the root; empty if it is outside

	choice choice // the chosen settings
	ahead  *ahead // what was started before the declarations were read
}

const sparseAdvice = "This checkout is sparse. If something is missing only here, add its directory: git sparse-checkout add DIRECTORY"

func (a *app) load(ctx context.Context) (*repository, error) {
	root, err := a.findRoot()
	if err != nil {
		return nil, err
	}
	r := &repository{root: root, git: git.Repo{Dir: root}}
	if r.graph, err = graph.Load(files.Reading(root), filepath.Base(root)); err != nil {
		if _, ok := graph.AsProblems(err); ok && r.git.Sparse(ctx) {
			err = fmt.Errorf("%w\n%s", err, sparseAdvice)
		}
		return nil, err
	}
	if dir, err := filepath.EvalSymlinks(a.dir); err == nil {
		if rel, err := filepath.Rel(root, dir); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			r.here = filepath.ToSlash(rel)
		}
	}
	return r, nil
}

// start returns the directory in which the search for a repository starts.
func (a *app) start() (string, error) {
	start := a.dir
	if a.repo != "" {
		start = a.repo
	}
	start, err := filepath.Abs(start)
	if err == nil {
		start, err = filepath.EvalSymlinks(start)
	}
	if err != nil {
		return "", exit{exitWrong, "grayloft: --repo: " + err.Error()}
	}
	return start, nil
}

func (a *app) findRoot() (string, error) {
	start, err := a.start()
	if err != nil {
		return "", err
	}
	for d := start; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, decl.RootFile)); err == nil {
			return d, nil
		}
		if a.repo != "" {
			return "", wrong("there is no %s in %s", decl.RootFile, start)
		}
		if d == filepath.Dir(d) {
			return "", exit{exitWrong, fmt.Sprintf("grayloft: there is no %s in %s or above it.\n"+
				"grayloft adopt proposes one from existing scripts and manifests.", decl.RootFile, start)}
		}
	}
}
