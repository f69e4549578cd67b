package cli

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/registry"
)

// checkSession is one call of check, which may look several times: after each round of
// edits.
type checkSession struct {
	a *app
	checkFlags
	rules    []check.Rule
	root     string
	versions map[check.Package][]string // as registries said; nil: not asked yet
	failures []registry.Failure
}

// found returns what is found in the repository: the findings of the last check if no
// file changed since, and nothing else is asked.
func (s *checkSession) found(ctx context.Context) ([]check.Finding, error) {
	var err error
	if s.root, err = s.a.findRoot(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(s.root, decl.RootFile)); err != nil {
		_, err := s.a.load(ctx)
		return nil, err
	}
	known := inspect.LastChecked(s.root)
	load := sync.OnceValues(func() (*repository, error) { return s.a.load(ctx) })
	if !known.Any() {
		go func() { _, _ = load() }() // while git lists the files
	}
	checkout := &files.Checkout{Root: s.root, Git: git.Repo{Dir: s.root}, Memory: files.NewMemory(s.root)}
	v, err := checkout.Visible(ctx)
	if err != nil {
		return nil, err
	}
	known.Of(v, s.rules)
	if list, ok := known.Findings(); ok && s.pick == "" && !s.updates {
		return list, nil
	}
	repo, r, err := s.read(ctx, checkout, v, load)
	if err != nil {
		return nil, err
	}
	in := check.Inspect(repo)
	if s.updates {
		s.ask(ctx, in)
	}
	list := in.Findings(s.rules)
	if !s.updates {
		known.Remember(list)
	}
	return s.a.amongPicked(ctx, r, s.pick, list)
}

// read loads the declarations, and reads what the sources import, at the same time.
func (s *checkSession) read(
	ctx context.Context, checkout *files.Checkout, v *files.Survey, load func() (*repository, error),
) (*check.Repo, *repository, error) {
	repo := &check.Repo{FS: files.Reading(s.root), Files: v.Paths(), Submodules: v.Submodules()}
	repo.Imports = imports.NewReader(repo.FS, sources(repo))
	var r *repository
	var group errgroup.Group
	group.Go(func() error { repo.Imports.Start(); return nil })
	group.Go(func() (err error) { repo.Tracked, err = checkout.Tracked(ctx); return err })
	group.Go(func() (err error) { r, err = load(); return err })
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	repo.Graph = r.graph
	var err error
	if repo.Ignored, err = v.IgnoredReads(ctx, r.graph); err != nil {
		return nil, nil, err
	}
	if problems := check.Problems(r.graph.Repo); len(problems) > 0 {
		return nil, nil, problems
	}
	if err := check.PinsProblem(repo); err != nil {
		return nil, nil, wrong("%v", err)
	}
	return repo, r, nil
}

// sources are the files whose imports are read: those of submodules only if there are projects.
func sources(repo *check.Repo) []string {
	inner := repo.Submodules
	isProject := func(p string) bool { return path.Base(p) == decl.ProjectFile && inner.Has(p) }
	if len(inner) == 0 || slices.ContainsFunc(repo.Files, isProject) {
		return repo.Files
	}
	return slices.DeleteFunc(slices.Clone(repo.Files), inner.Has)
}

// sparse warns about findings that may be wrong in a sparse checkout, and refuses to act on them.
// Without findings, git is not asked.
func (s *checkSession) sparse(ctx context.Context, found []check.Finding) error {
	switch {
	case len(found) == 0, !(git.Repo{Dir: s.root}).Sparse(ctx):
	case s.fix:
		return wrong("this checkout is sparse, so --fix could remove what is only missing here: use a whole checkout")
	case !s.a.Quiet:
		fmt.Fprintln(s.a.Err, "warning: this checkout is sparse: something that is reported as missing or unused may be missing only here")
	}
	return nil
}

// ask asks the registries about the packages of an inspection, once in a session.
func (s *checkSession) ask(ctx context.Context, in *check.Inspection) {
	if s.versions == nil {
		list := slices.DeleteFunc(in.Updatable(), func(p check.Package) bool { return !registry.Asks(p.Ecosystem) })
		home, _ := os.UserHomeDir() // without one, there is no configuration
		cache, err := store.DefaultDir()
		if err == nil {
			cache = filepath.Join(cache, "registry")
		}
		m := s.a.NewMeter("Asking registries", len(list))
		s.versions, s.failures = registry.Load(os.Getenv, home, s.root, cache).Ask(ctx, list, m.Step)
		m.Finish()
	}
	in.Versions = s.versions
}

// unasked names the packages whose versions are not known. It returns an error if a
// registry did not answer.
func (s *checkSession) unasked() error {
	unanswered := ""
	for _, f := range s.failures {
		if f.Unanswered {
			unanswered += "\n  " + f.String()
		} else if !s.a.Quiet {
			fmt.Fprintf(s.a.Err, "not asked: %s\n", f)
		}
	}
	if unanswered != "" {
		return machineFault("some registries did not answer:%s", unanswered)
	}
	return nil
}

func (s *checkSession) isUnanswered() bool {
	return slices.ContainsFunc(s.failures, func(f registry.Failure) bool { return f.Unanswered })
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
