package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/inspect"
)

// found returns what is found in the repository, and its root: the findings of the last
// check if no file changed since.
func (a *app) found(ctx context.Context, f checkFlags, rules []check.Rule) ([]check.Finding, string, error) {
	root, err := a.findRoot()
	if err != nil {
		return nil, "", err
	}
	if _, err := os.Stat(filepath.Join(root, decl.RootFile)); err != nil {
		_, err := a.load(ctx)
		return nil, "", err
	}
	checkout := &files.Checkout{Root: root, Git: git.Repo{Dir: root}, Memory: files.NewMemory(root)}
	v, err := checkout.Visible(ctx)
	if err != nil {
		return nil, "", err
	}
	known := inspect.NewChecked(root, v, rules)
	if list, ok := known.Findings(); ok && f.pick == "" {
		return list, root, nil
	}
	repo := &check.Repo{FS: files.Reading(root), Files: v.Paths()}
	repo.Imports = imports.NewReader(repo.FS, repo.Files)
	var r *repository
	var group errgroup.Group
	group.Go(func() error { repo.Imports.Start(); return nil })
	group.Go(func() (err error) { repo.Tracked, err = checkout.Tracked(ctx); return err })
	group.Go(func() (err error) { r, err = a.load(ctx); return err })
	if err := group.Wait(); err != nil {
		return nil, "", err
	}
	repo.Graph = r.graph
	if problems := check.Problems(r.graph.Repo); len(problems) > 0 {
		return nil, "", problems
	}
	if err := check.PinsProblem(repo); err != nil {
		return nil, "", wrong("%v", err)
	}
	list := check.Run(repo, rules)
	known.Remember(list)
	list, err = a.amongPicked(ctx, r, f.pick, list)
	return list, root, err
}

// amongPicked returns the findings of projects with a task that an expression selects.
func (a *app) amongPicked(ctx context.Context, r *repository, text string, list []check.Finding) ([]check.Finding, error) {
	if text == "" {
		return list, nil
	}
	e, err := pick.Parse(text)
	if err != nil {
		return nil, err
	}
	among, err := e.Eval(r.graph, a.facts(ctx, r, selection{}))
	if err != nil {
		return nil, err
	}
	projects := map[string]bool{}
	for t := range among {
		projects[t.Project.Name] = true
	}
	return slices.DeleteFunc(list, func(x check.Finding) bool { return !projects[x.Project] }), nil
}
