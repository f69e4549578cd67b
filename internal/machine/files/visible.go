package files

import (
	"context"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
)

// Visible takes the status of all files that git tracks or does not ignore.
func (c *Checkout) Visible(ctx context.Context) (*Survey, error) {
	taken := c.now().UnixNano()
	list, err := c.surveyed(ctx)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(f found) bool { return f.st == (stamp{}) && !c.exists(f.path) })
	return &Survey{c: c, list: list, taken: taken}, nil
}

// IgnoredReads returns the paths, from the root, at which reads of tasks start and that git ignores,
// whether they exist or not.
func (v *Survey) IgnoredReads(ctx context.Context, g *graph.Graph) (map[string]bool, error) {
	visible := sortedPaths(v.Paths())
	return v.c.Ignores(ctx, slices.DeleteFunc(g.ReadStarts(), visible.meets))
}

// Ignores returns those of some paths that git ignores, whether they exist or not.
func (c *Checkout) Ignores(ctx context.Context, among []string) (map[string]bool, error) {
	var ask []string
	for _, p := range among {
		if p != "" && p != "." {
			ask = append(ask, p, p+"/any") // for a rule about directories, where none is there
		}
	}
	ignored, err := c.Git.Ignored(ctx, ask)
	slices.Sort(ignored)
	out := map[string]bool{}
	for _, p := range among {
		_, itself := slices.BinarySearch(ignored, p)
		_, inside := slices.BinarySearch(ignored, p+"/any")
		out[p] = itself || inside
	}
	return out, err
}

// Paths returns the files of a survey, from the root, sorted.
func (v *Survey) Paths() []string {
	out := make([]string, len(v.list))
	for i, f := range v.list {
		out[i] = f.path
	}
	return out
}

// Fingerprint returns a digest of the names and statuses of all files of a survey and
// of git's index. While it is equal, and was settled when it was first taken, the files
// and what git tracks are the same.
func (v *Survey) Fingerprint() (sum digest.Digest, settled bool) {
	index, ok := v.c.indexState()
	buf := appendStamp([]byte(index.file), index.st)
	settled = ok && index.settledBefore(time.Unix(0, v.taken))
	for _, f := range v.list {
		var ok bool
		buf, ok = v.add(buf, f)
		settled = settled && ok
	}
	return digest.Of(buf), settled
}

// Tracked returns the files that git tracks, from the root.
func (c *Checkout) Tracked(ctx context.Context) ([]string, error) { return c.trackedFiles(ctx) }
