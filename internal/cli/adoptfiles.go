package cli

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/machine/git"
)

// adoptable returns the files of a repository that adopt reads: not those of a repository
// inside it, which has declarations of its own.
func (a *app) adoptable(ctx context.Context, repo git.Repo) ([]string, error) {
	list, err := repo.Files(ctx)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(p string) bool { _, err := os.Lstat(filepath.Join(repo.Dir, p)); return err != nil })
	inner := decl.InnerOf(list)
	for _, dir := range inner {
		if !a.Quiet {
			fmt.Fprintf(a.Out, "%s has a %s: it is a repository of its own, and not looked at.\n\n", dir, decl.RootFile)
		}
	}
	return slices.DeleteFunc(list, inner.Has), nil
}

// unlisted is the error for declarations of projects that no root file lists: what they
// declare cannot be read.
func unlisted(name string, list []string) error {
	var dirs []string
	for _, p := range list {
		if path.Base(p) == decl.ProjectFile && p != decl.ProjectFile { // the root's own are in the root file
			dirs = append(dirs, fmt.Sprintf("%q", path.Dir(p)))
		}
	}
	if len(dirs) == 0 {
		return nil
	}
	return wrong("there is no %s, but there are declarations of %s. Write %s with\n\n"+
		"  schema = 1\n  [repo]\n  name = %q\n  projects = [%s]\n\n"+
		"and run grayloft adopt again: it proposes what is new",
		decl.RootFile, amount.Count(len(dirs), "project", "projects"), decl.RootFile, name, strings.Join(dirs, ", "))
}
