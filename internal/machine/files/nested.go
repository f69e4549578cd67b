package files

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/machine/git"
)

// A submodule is a repository of its own, of which git records one commit. Its files are
// read like others: those that it tracks or does not ignore.

// withSubmodules adds the files of submodules that are checked out to a list, sorted.
func (c *Checkout) withSubmodules(ctx context.Context, list []found, err error) ([]found, error) {
	c.mu.Lock()
	links := c.links
	c.mu.Unlock()
	if err != nil || len(links) == 0 {
		return list, err
	}
	more, err := c.inSubmodules(ctx, links)
	if err != nil || len(more) == 0 {
		return list, err
	}
	list = append(slices.Clone(list), more...)
	slices.SortFunc(list, func(a, b found) int { return strings.Compare(a.path, b.path) })
	return list, nil
}

// inSubmodules returns the files of submodules, and of those in them.
func (c *Checkout) inSubmodules(ctx context.Context, links []string) ([]found, error) {
	parts := make([][]found, len(links))
	var group errgroup.Group
	group.SetLimit(4)
	for i, link := range links {
		group.Go(func() (err error) { parts[i], err = c.inSubmodule(ctx, link); return err })
	}
	err := group.Wait()
	return slices.Concat(parts...), err
}

func (c *Checkout) inSubmodule(ctx context.Context, link string) (list []found, err error) {
	dir := filepath.Join(c.Root, filepath.FromSlash(link))
	if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
		return nil, nil // it is not checked out
	}
	paths, err := git.Repo{Dir: dir}.Files(ctx)
	if err != nil {
		return nil, err
	}
	var inner []string
	for _, p := range paths {
		p = link + "/" + p
		info, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(p)))
		switch {
		case err != nil: // deleted
		case info.IsDir():
			inner = append(inner, p)
		default:
			st, _ := stampOf(info)
			list = append(list, found{path: p, st: st})
		}
	}
	more, err := c.inSubmodules(ctx, inner)
	return append(list, more...), err
}

// besideSubmodules divides directories into those that are not in a submodule, and the
// submodules that have files below any of them.
func (c *Checkout) besideSubmodules(below []string) (outside, links []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, l := range c.links {
		if len(below) == 0 || slices.ContainsFunc(below, func(b string) bool { return inside(l, b) || inside(b, l) }) {
			links = append(links, l)
		}
	}
	outside = slices.DeleteFunc(slices.Clone(below), func(b string) bool {
		return slices.ContainsFunc(c.links, func(l string) bool { return b != l && inside(b, l) })
	})
	return outside, links
}

func (c *Checkout) hasSubmodules() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.links) > 0
}

// Submodules returns the directories of submodules, as far as the survey found some.
func (v *Survey) Submodules() []string {
	v.c.mu.Lock()
	defer v.c.mu.Unlock()
	return v.c.links
}
