// Package drift compares what a task opened with what it declares, and says
// which lines of its declaration to add or remove. It also compares the outputs
// of two runs of one task, byte by byte. It runs nothing.
package drift

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Seen is what a task opened. Paths are relative to the root of the repository.
type Seen struct {
	Read     []string // files in the repository
	Wrote    []string // files in the repository, if they still exist at the end
	Stored   []string // the same, in directories that probes name: tools keep files there
	Outside  []string // absolute paths outside the repository, the system and the toolchains of probes
	Caches   []string // those of Outside that were also written
	Home     string   // the home directory, an absolute path
	Declared []string // the files that are part of its key
}

// Finding is a difference.
type Finding struct {
	Add  bool     `json:"add"`  // a line to add; otherwise one to remove
	Key  string   `json:"key"`  // the key of the declaration: reads, writes, after, probes
	Line string   `json:"line"` // the value to add or remove
	At   string   `json:"at"`   // position of the declaration
	Why  string   `json:"why"`
	Of   []string `json:"files"` // the files it is about, at most ten
	// Wrong says that reuse is wrong until this is fixed: the task reads or
	// writes something that the key or the listing does not cover.
	Wrong bool `json:"wrong"`
}

// Advice says what to change.
func (f Finding) Advice() string {
	if f.Add {
		return fmt.Sprintf("add %s to %s (%s)", f.Line, f.Key, f.At)
	}
	return fmt.Sprintf("remove %s from %s (%s)", f.Line, f.Key, f.At)
}

// Compare returns the differences, additions first.
func Compare(t *graph.Task, seen Seen) []Finding {
	c := &comparison{t: t, add: map[[2]string]*Finding{}}
	declared := map[string]bool{}
	for _, p := range seen.Declared {
		declared[p] = true
	}
	for _, p := range seen.Read {
		if !declared[p] {
			c.read(p)
		}
	}
	for _, p := range seen.Wrote {
		c.wrote(p)
	}
	for _, p := range seen.Stored {
		c.stored(p)
	}
	caches := map[string]bool{}
	for _, p := range seen.Caches {
		caches[outer(p)] = true
	}
	for _, p := range seen.Outside {
		c.outside(p, caches[outer(p)], seen.Home)
	}
	var out []Finding
	for _, f := range c.add {
		out = append(out, *f)
	}
	slices.SortFunc(out, func(a, b Finding) int { return cmp.Or(cmp.Compare(a.Key, b.Key), cmp.Compare(a.Line, b.Line)) })
	out = shorten(out)
	return append(out, c.idle(seen)...)
}

type comparison struct {
	t   *graph.Task
	add map[[2]string]*Finding
}

func (c *comparison) note(f Finding, file string) {
	k := [2]string{f.Key, f.Line}
	have, ok := c.add[k]
	if !ok {
		f.Add = true
		have = &f
		c.add[k] = have
	}
	if len(have.Of) < 10 {
		have.Of = append(have.Of, file)
	}
}

func (c *comparison) at(l decl.List) string {
	if l.Given && len(l.Items) > 0 {
		return l.Items[0].Pos.At()
	}
	return c.t.Pos.At()
}

func (c *comparison) rel(p string) string {
	if c.t.Project.Dir == "." {
		return p
	}
	return strings.TrimPrefix(p, c.t.Project.Dir+"/")
}

// inner tells whether a path belongs to git or to Gray Loft.
func inner(p string) bool {
	for _, dir := range []string{".git", ".grayloft"} {
		if p == dir || strings.HasPrefix(p, dir+"/") {
			return true
		}
	}
	return false
}

func (c *comparison) read(p string) {
	t, g := c.t, c.t.Graph()
	if inner(p) || t.OpensFile(p) {
		return
	}
	if w := g.Writer(p); w != nil {
		if w != t && !t.DependsOn(w) {
			c.note(Finding{Key: "after", Line: fmt.Sprintf("%q", w.Addr()), At: c.at(t.Decl.After), Wrong: true,
				Why: fmt.Sprintf("it read %s, which is an output of %s", p, w.Addr())}, p)
		}
		return
	}
	owner := g.Owner(p)
	if owner != nil && owner.Writes(p) { // scratch is never part of a key
		if owner != t.Project {
			c.note(Finding{Key: "reads", Line: fmt.Sprintf("%q", "repo:"+p), At: c.at(t.Decl.Reads), Wrong: true,
				Why: "it read " + p + ", which is scratch of another project"}, p)
		}
		return
	}
	line := "repo:" + p
	if owner == t.Project {
		line = c.rel(p)
	}
	if why := scanned(t.Decl.Run.String(), p, c.probed()); why != "" && (owner != t.Project || path.Base(p) != "package.json") {
		c.note(Finding{Key: "opens", Line: fmt.Sprintf("%q", line), At: c.at(t.Decl.Opens), Why: "it opened " + p + ": " + why}, p)
		return
	}
	c.note(Finding{Key: "reads", Line: fmt.Sprintf("%q", line), At: c.at(t.Decl.Reads), Wrong: true, Why: "it read " + p}, p)
}

// probed returns the patterns of the files that the probes of the task read.
func (c *comparison) probed() (out []string) {
	for _, it := range c.t.Decl.Probes.Items {
		for _, r := range c.t.Graph().Repo.Probes[it.Text].Reads {
			out = append(out, r.Item.Text)
		}
	}
	return out
}

func (c *comparison) wrote(p string) {
	t := c.t
	if inner(p) || t.WritesFile(p) || t.Graph().Owner(p) == t.Project && t.IsScratch(p) {
		return
	}
	if t.Graph().Owner(p) != t.Project {
		c.note(Finding{Key: "writes", Line: fmt.Sprintf("%q", p), At: c.at(t.Decl.Writes), Wrong: true,
			Why: "it wrote " + p + ", outside its project, which no declaration can cover"}, p)
		return
	}
	c.note(Finding{Key: "writes", Line: fmt.Sprintf("%q", c.rel(p)), At: c.at(t.Decl.Writes), Wrong: true, Why: "it wrote " + p}, p)
}

// stored notes a file that a tool keeps where it is installed.
func (c *comparison) stored(p string) {
	if t := c.t; t.Graph().Owner(p) != t.Project {
		c.wrote(p)
	} else if !t.IsScratch(p) {
		dir := path.Dir(c.rel(p))
		c.note(Finding{Key: "scratch", Line: fmt.Sprintf("%q", dir+"/**"), At: c.at(t.Decl.Scratch), Wrong: true,
			Why: "it keeps files in " + dir}, p)
	}
}

// outer returns the directory that stands for a file outside the repository.
func outer(p string) string {
	dir := path.Dir(p)
	if parts := strings.SplitN(strings.TrimPrefix(dir, "/"), "/", 4); len(parts) > 3 {
		dir = "/" + strings.Join(parts[:3], "/")
	}
	return dir
}

// outside notes a file outside the repository by its directory. One below the
// home directory that is also written is a cache shared by runs.
func (c *comparison) outside(p string, cache bool, home string) {
	dir := outer(p)
	if rel, ok := strings.CutPrefix(dir, home+"/"); ok && (cache || strings.HasPrefix(rel, ".cache/")) {
		c.note(Finding{Key: "scratch", Line: fmt.Sprintf("%q", "home:"+rel), At: c.at(c.t.Decl.Scratch),
			Why: "it uses " + dir + ", outside the repository, as a cache"}, p)
		return
	}
	if dir == home { // everything a person has is below it
		c.note(Finding{Key: "probes", Line: "a probe that prints what matters of " + p, At: c.at(c.t.Decl.Probes),
			Why: "it read " + p + ", which is a person's own"}, p)
		return
	}
	c.note(Finding{Key: "probes", Line: "a probe with dirs = [" + fmt.Sprintf("%q", dir) + "]", At: c.at(c.t.Decl.Probes),
		Why: "it read " + p + ", outside the repository"}, p)
}

// idle returns the patterns of which no matching file was opened.
func (c *comparison) idle(seen Seen) []Finding {
	t := c.t
	opened := map[string]bool{}
	for _, p := range seen.Read {
		opened[p] = true
	}
	var out []Finding
	for _, r := range t.Reads {
		if r.Negated || r.Scope == decl.Needs {
			continue
		}
		var of []string
		used := false
		for _, p := range seen.Declared {
			name := p
			if r.Scope == decl.Own {
				if t.Graph().Owner(p) != t.Project {
					continue
				}
				name = c.rel(p)
			}
			if r.Pattern.Match(name) {
				of = append(of, p)
				used = used || opened[p]
			}
		}
		if len(of) > 0 && !used {
			out = append(
				out,
				Finding{Key: "reads", Line: fmt.Sprintf("%q", r.Item.Text), At: r.Item.Pos.At(), Of: of[:min(10, len(of))],
					Why: fmt.Sprintf("it opened none of the files that %q matches (%s)", r.Item.Text, some(of))},
			)
		}
	}
	return out
}

func some(paths []string) string {
	if len(paths) == 1 {
		return paths[0]
	}
	return fmt.Sprintf("%s and %d more", paths[0], len(paths)-1)
}
