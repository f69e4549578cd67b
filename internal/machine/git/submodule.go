package git

import (
	"context"
	"path"
	"path/filepath"
	"strings"
)

// submodule returns the innermost directory around a path that is a repository of its own;
// empty if there is none.
func (r Repo) submodule(p string) string {
	for d := path.Dir(p); d != "." && d != "/"; d = path.Dir(d) {
		if r.isSubmodule(d) {
			return d
		}
	}
	return ""
}

func (r Repo) isSubmodule(dir string) bool {
	return there(filepath.Join(r.Dir, filepath.FromSlash(dir)), ".git")
}

// Submodules returns those of some paths that git's index has as submodules, whether or not they are
// checked out.
func (r Repo) Submodules(ctx context.Context, among []string) ([]string, error) {
	if len(among) == 0 {
		return nil, nil
	}
	out, err := r.run(ctx, nil, append([]string{"ls-files", "-z", "--stage", "--"}, literal(among)...)...)
	var list []string
	for line := range strings.SplitSeq(string(out), "\x00") { // mode, object and stage, a tab, and the path
		if about, p, ok := strings.Cut(line, "\t"); ok && strings.HasPrefix(about, "160000 ") {
			list = append(list, p)
		}
	}
	return list, err
}

// ignoredInParts is [Repo.Ignored] for paths of which some are in submodules: git answers only
// about those of one repository. Ok is false if none is.
func (r Repo) ignoredInParts(ctx context.Context, among []string) (ignored []string, ok bool, err error) {
	parts := map[string][]string{}
	for _, p := range among {
		d := r.submodule(p)
		parts[d] = append(parts[d], strings.TrimPrefix(p, d+"/"))
	}
	if len(parts[""]) == len(among) {
		return nil, false, nil
	}
	for dir, list := range parts {
		found, err := Repo{Dir: filepath.Join(r.Dir, filepath.FromSlash(dir))}.Ignored(ctx, list)
		if err != nil {
			return nil, true, err
		}
		for _, p := range found {
			ignored = append(ignored, path.Join(dir, p))
		}
	}
	return ignored, true, nil
}

// Expanded adds the files of submodules that are among the paths. Where these are changes, it is
// not known which of the files changed: git records one commit for all of them.
func (r Repo) Expanded(ctx context.Context, paths []string) ([]string, error) {
	var out []string
	for _, p := range paths {
		out = append(out, p)
		if !r.isSubmodule(p) {
			continue
		}
		inner := Repo{Dir: filepath.Join(r.Dir, filepath.FromSlash(p))}
		list, err := inner.Files(ctx)
		if err == nil {
			list, err = inner.Expanded(ctx, list)
		}
		if err != nil {
			return nil, err
		}
		for _, f := range list {
			out = append(out, path.Join(p, f))
		}
	}
	return out, nil
}
