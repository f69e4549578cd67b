package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing/fstest"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pick"
)

// selection is what a person gave to select tasks.
type selection struct {
	pick       string
	since      string
	files      []string
	filesFrom  string
	everything bool // without names, all tasks are selected
	reaching   bool // without a pick, the tasks that the changes can affect are selected
}

func (s *selection) flags(c *cobra.Command) {
	c.Flags().StringVar(&s.pick, "pick", "", "an expression that selects tasks: 'affected and tag:web'")
	s.changeFlags(c)
}

func (s *selection) changeFlags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.since, "since", "", "measure changes against this revision (default: repo.since)")
	f.StringArrayVar(&s.files, "file", nil, "treat this file as changed, instead of asking git (repeatable)")
	f.StringVar(&s.filesFrom, "files-from", "", "treat the files listed in this file, one per line, as changed; - is standard input")
}

// selected returns the tasks that a person selected.
func (a *app) selected(ctx context.Context, r *repository, s selection, names []string) ([]*graph.Task, error) {
	c := &changes{a: a, ctx: ctx, r: r, s: s}
	expr := s.pick
	if expr == "" && (s.reaching || s.since != "" || len(s.files) > 0 || s.filesFrom != "") {
		expr = "affected"
	}
	if s.pick != "" && len(names) > 0 {
		if msg := a.expanded(r, names[0]); msg != "" && a.expanded(r, s.pick) != "" {
			return nil, exit{exitWrong, fmt.Sprintf("grayloft: the shell replaced a pattern by %s %s …: quote the pattern, such as --pick './%s/*'", s.pick, names[0], path.Dir(s.pick))}
		}
	}
	var among pick.Set
	if expr != "" {
		e, err := pick.Parse(expr)
		if err != nil {
			return nil, err
		}
		if among, err = e.Eval(r.graph, c.tasks); err != nil {
			return nil, err
		}
	}
	if len(names) == 0 {
		switch {
		case among != nil:
			return among.Sorted(r.graph), nil
		case s.everything:
			return r.graph.Tasks, nil
		}
		return nil, exit{exitWrong, fmt.Sprintf("grayloft: which tasks? The repository has %s; or select tasks with --pick", strings.Join(r.graph.TaskNames(), ", "))}
	}
	return a.narrow(r, among, names)
}

// narrow keeps the tasks that the names on the command line refer to.
func (a *app) narrow(r *repository, among pick.Set, names []string) ([]*graph.Task, error) {
	// At the root, names refer to all projects, even if there is a project at
	// the root.
	here := r.graph.Containing(r.here)
	if here != nil && here.Dir == "." {
		here = nil
	}
	out := pick.Set{}
	for _, name := range names {
		if strings.Contains(name, "@") {
			e, err := pick.Parse("\"" + name + "\"")
			if err != nil {
				return nil, err
			}
			set, err := e.Eval(r.graph, nil)
			if err != nil {
				return nil, err
			}
			for t := range set {
				out[t] = among == nil || among[t]
			}
			continue
		}
		found, err := a.named(r, among, here, name)
		if err != nil {
			return nil, err
		}
		for _, t := range found {
			out[t] = true
		}
	}
	return out.Sorted(r.graph), nil
}

// named returns the tasks with a bare name: of the project in the current
// directory, or of all projects; with a pick, of those that it selects.
func (a *app) named(r *repository, among pick.Set, here *graph.Project, name string) ([]*graph.Task, error) {
	pat, err := glob.Parse(name)
	if err != nil {
		return nil, err
	}
	var out []*graph.Task
	known := false
	for _, t := range r.graph.Tasks {
		if !pat.MatchExact(t.Name) {
			continue
		}
		known = true
		if (among != nil && among[t]) || (among == nil && (here == nil || r.here == "" || t.Project == here)) {
			out = append(out, t)
		}
	}
	switch {
	case known && len(out) == 0 && among == nil:
		return nil, exit{exitWrong, fmt.Sprintf("grayloft: project %q, in the current directory, has no task %q; for the tasks of all projects write %q", here.Name, name, name+"@*")}
	case known:
		return out, nil
	case r.graph.Project(name) != nil:
		return nil, exit{exitWrong, fmt.Sprintf("grayloft: %q is a project, not a task: write --pick %s, or one of its tasks, such as %s", name, name, firstTask(r.graph.Project(name)))}
	}
	if msg := a.expanded(r, name); msg != "" {
		return nil, exit{exitWrong, msg}
	}
	msg := fmt.Sprintf("grayloft: no task is named %q", name)
	if c := decl.Closest(name, r.graph.TaskNames()); c != "" {
		return nil, exit{exitWrong, msg + fmt.Sprintf("; did you mean %q?", c)}
	}
	return nil, exit{exitWrong, msg + ": the names are " + strings.Join(r.graph.TaskNames(), ", ")}
}

// expanded explains a name that is a path: the shell probably replaced a
// pattern by it.
func (a *app) expanded(r *repository, name string) string {
	info, err := os.Stat(filepath.Join(a.dir, name))
	if err != nil {
		return ""
	}
	if !info.IsDir() {
		return fmt.Sprintf("grayloft: %q is a file, not a task; to select the tasks that read it: --file %s. If it came from a pattern, quote the pattern so that the shell does not expand it", name, name)
	}
	where := "./" + path.Join(r.here, filepath.ToSlash(filepath.Clean(name)))
	return fmt.Sprintf("grayloft: %q is a directory, not a task; to select its tasks: --pick %s. If it came from a pattern, quote the pattern so that the shell does not expand it: --pick '%s/*'",
		name, where, strings.TrimSuffix("./"+path.Dir(path.Clean(where)), "/."))
}

func firstTask(p *graph.Project) string {
	if len(p.Tasks) == 0 {
		return "build@" + p.Name
	}
	return p.Tasks[0].Addr()
}

// changes finds, once, which tasks the changes touch.
type changes struct {
	a       *app
	ctx     context.Context
	r       *repository
	s       selection
	touched []change.Touch
	all     bool // the base was not found
	rev     string
	done    bool
}

func (c *changes) tasks() ([]*graph.Task, error) {
	if err := c.find(); err != nil {
		return nil, err
	}
	if c.all {
		return c.r.graph.Tasks, nil
	}
	var out []*graph.Task
	for _, t := range c.touched {
		out = append(out, t.Task)
	}
	return out, nil
}

func (c *changes) find() error {
	if c.done {
		return nil
	}
	c.done = true
	paths, err := c.named()
	if err != nil {
		return err
	}
	rev, base, err := c.base()
	c.rev = rev
	if err != nil {
		return err
	}
	if paths == nil {
		if base == "" {
			c.all = true
			fmt.Fprintf(c.a.err, "warning: %s\n", c.noBase(rev))
			return nil
		}
		if paths, err = c.r.git.Changes(c.ctx, base); err != nil {
			return err
		}
	}
	var old *graph.Graph
	if c.touchesDeclarations(paths) {
		if old, err = c.graphAt(base); err != nil {
			c.all = true
			fmt.Fprintf(c.a.err, "warning: the declarations at %s cannot be read, so everything counts as changed: %v\n", rev, firstLine(err.Error()))
			return nil
		}
	}
	c.touched = change.Touched(c.r.graph, old, paths)
	return nil
}

// named returns the files that the person named, or nil to ask git.
func (c *changes) named() ([]string, error) {
	if len(c.s.files) == 0 && c.s.filesFrom == "" {
		return nil, nil
	}
	list := slices.Clone(c.s.files)
	if c.s.filesFrom != "" {
		more, err := c.a.lines(c.s.filesFrom)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	out := []string{}
	for _, f := range list {
		p, err := c.a.fromRoot(c.r, f)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

func (a *app) lines(file string) ([]string, error) {
	in := io.Reader(os.Stdin)
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, exit{exitWrong, "grayloft: --files-from: " + err.Error()}
		}
		defer f.Close()
		in = f
	}
	var out []string
	sc := bufio.NewScanner(in)
	sc.Buffer(nil, 1<<20)
	for sc.Scan() {
		if l := strings.TrimRight(sc.Text(), "\r"); l != "" {
			out = append(out, l)
		}
	}
	return out, sc.Err()
}

// fromRoot returns a file that a person named as a path from the root. A path
// is relative to the current directory, or, if nothing is there, to the root.
func (a *app) fromRoot(r *repository, file string) (string, error) {
	full := file
	if !filepath.IsAbs(file) {
		full = filepath.Join(a.dir, file)
		if _, err := os.Lstat(full); err != nil || a.repo != "" {
			if _, err := os.Lstat(filepath.Join(r.root, file)); err == nil || r.here == "" || r.here == "." {
				full = filepath.Join(r.root, file)
			}
		}
	}
	if dir, err := filepath.EvalSymlinks(filepath.Dir(full)); err == nil {
		full = filepath.Join(dir, filepath.Base(full))
	}
	rel, err := filepath.Rel(r.root, full)
	if err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return "", exit{exitWrong, fmt.Sprintf("grayloft: %s is outside the repository %s", file, r.root)}
	}
	return path.Clean(filepath.ToSlash(rel)), nil
}

// base returns the revision that changes are measured against, and its merge
// base with HEAD; the commit is empty if there is none.
func (c *changes) base() (rev, commit string, err error) {
	rev = c.s.since
	if rev == "" {
		rev = c.r.graph.Repo.Since
	}
	if rev == "" {
		rev = "HEAD"
	}
	if rev == lastGood {
		commit, err = c.lastGood()
		return rev, commit, err
	}
	if _, err := c.r.git.Resolve(c.ctx, rev); err != nil {
		if c.s.since != "" && !c.r.git.Shallow(c.ctx) {
			return rev, "", exit{exitWrong, fmt.Sprintf("grayloft: --since: %v", err)}
		}
		return rev, "", nil
	}
	commit, _, err = c.r.git.MergeBase(c.ctx, rev)
	return rev, commit, err
}

// lastGood as a revision is the newest commit of this branch whose run on the
// trusted shelf passed.
const lastGood = "last-good"

// lastGood asks the service. On a detached head any branch is accepted, as long
// as the commit is an ancestor of HEAD. Without an answer everything counts as
// changed: that is never an error.
func (c *changes) lastGood() (string, error) {
	client, url := c.a.client(c.r, nil)
	if client == nil {
		return "", exit{exitWrong, "grayloft: --since last-good needs a service: grayloft login URL, or url in [service] and GRAYLOFT_TOKEN"}
	}
	_, branch := c.r.git.Head(c.ctx)
	good, err := client.LastGood(c.ctx, branch)
	if err != nil {
		fmt.Fprintf(c.a.err, "warning: asking %s for the last good commit: %v\n", url, err)
		return "", nil
	}
	for _, g := range good {
		if c.r.git.Ancestor(c.ctx, g.Commit) {
			return g.Commit, nil
		}
	}
	return "", nil
}

func (c *changes) noBase(rev string) string {
	if rev == lastGood {
		return "the service has no run on the trusted shelf that passed at an ancestor of this commit, so everything counts as changed"
	}
	if c.r.git.Shallow(c.ctx) {
		return fmt.Sprintf("this clone is shallow and does not reach back to %s, so everything counts as changed; `git fetch --unshallow` fixes that", rev)
	}
	return fmt.Sprintf("git finds no common ancestor with %q, so everything counts as changed; set since in [repo], or give --since", rev)
}

func (c *changes) touchesDeclarations(paths []string) bool {
	return slices.ContainsFunc(paths, func(p string) bool {
		return path.Base(p) == decl.ProjectFile || p == decl.RootFile || slices.Contains(c.r.graph.Repo.Files, p)
	})
}

// graphAt loads the declarations of a commit; without a commit, an empty graph.
func (c *changes) graphAt(commit string) (*graph.Graph, error) {
	if commit == "" {
		return nil, nil
	}
	texts, err := c.r.git.At(c.ctx, commit, func(p string) bool { return strings.HasSuffix(p, ".toml") })
	if err != nil {
		return nil, err
	}
	if _, ok := texts[decl.RootFile]; !ok {
		return graph.Load(fstest.MapFS{decl.RootFile: {Data: []byte("schema = 1\n")}}, c.r.graph.Repo.Name)
	}
	fsys := fstest.MapFS{}
	for p, b := range texts {
		fsys[p] = &fstest.MapFile{Data: b}
	}
	old, err := graph.Load(fsys, filepath.Base(c.r.root))
	if err != nil {
		return nil, err
	}
	if vals, err := old.Repo.Choose(c.r.choice.modes, c.r.choice.sets); err == nil {
		old.Chosen = vals
	}
	return old, nil
}
