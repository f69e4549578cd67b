package change

import (
	"path"
	"slices"

	"grayloft.example/grayloft/internal/core/graph"
)

// Moved returns the directories that are a project now and were none, or the other way around. Files
// below them are in another project, and so read by other tasks: also those that changed or are gone.
func (b *Base) Moved(g *graph.Graph) []string {
	var now []string
	for _, p := range g.Projects {
		now = append(now, p.Dir)
	}
	slices.Sort(now)
	var out []string
	for _, dir := range slices.Concat(now, b.Dirs) {
		_, is := slices.BinarySearch(now, dir)
		if _, was := slices.BinarySearch(b.Dirs, dir); is != was {
			out = append(out, dir)
		}
	}
	return out
}

// movedFor returns a file that a task reads and did not read, or the other way around, because the
// file is in another project; empty if there is none.
func movedFor(g *graph.Graph, base *Base, t *graph.Task, moved []string) string {
	for _, f := range moved {
		before := base.owner(g, f)
		if t.ReadsFile(f) || before == t.Project && t.ReadsOwned(f) {
			return f
		}
		if t.NeedsRead() && slices.ContainsFunc(t.Project.NeedsAll, func(q *graph.Project) bool {
			return q.OffersFile(g, f) || before == q && q.OffersOwned(f)
		}) {
			return f
		}
	}
	return ""
}

// owner returns the project that a file was in, if it is still there.
func (b *Base) owner(g *graph.Graph, file string) *graph.Project {
	for dir := path.Dir(file); ; dir = path.Dir(dir) {
		if _, ok := slices.BinarySearch(b.Dirs, dir); ok {
			if p := g.Owner(path.Join(dir, "any")); p != nil && p.Dir == dir {
				return p
			}
			return nil
		}
		if dir == "." {
			return nil
		}
	}
}
