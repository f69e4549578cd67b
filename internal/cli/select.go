package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/machine/changes"
	"grayloft.example/grayloft/internal/machine/checkout"
)

// selection is what a person gave to select tasks.
type selection struct {
	pick       string
	since      string
	files      []string
	filesFrom  string
	commits    string // a text in the messages of commits
	everything bool   // without names, all tasks are selected
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

// namesChanges tells whether the person said what changed.
func (s selection) namesChanges() bool {
	return s.since != "" || len(s.files) > 0 || s.filesFrom != ""
}

// requested returns what the person requested, in few words.
func (s selection) requested(args []string) []string {
	out := append([]string{}, args...)
	if s.pick != "" {
		out = append(out, s.pick)
	} else if s.namesChanges() {
		out = append(out, "affected")
	}
	return out
}

// selected returns the tasks that a person selected.
func (a *app) selected(ctx context.Context, r *repository, s selection, names []string) ([]*graph.Task, error) {
	expr := s.pick
	if expr == "" && s.namesChanges() {
		expr = "affected"
	}
	if err := a.unexpanded(r, s.pick, names); err != nil {
		return nil, err
	}
	var among pick.Set
	if expr != "" {
		e, err := pick.Parse(expr)
		if err != nil {
			return nil, err
		}
		if among, err = e.Eval(r.graph, a.facts(ctx, r, s)); err != nil {
			return nil, err
		}
	}
	switch {
	case len(names) > 0:
		return a.byName(r, among, names)
	case among != nil:
		return among.Sorted(r.graph), nil
	case s.everything:
		return r.graph.Tasks, nil
	}
	return nil, r.whichTasks()
}

// whichTasks is the error of a command that was given no tasks.
func (r *repository) whichTasks() error {
	if len(r.graph.Tasks) == 0 {
		return wrong("%s", pick.Names(r.graph))
	}
	return wrong("which tasks? The repository has %s; or select tasks with --pick", strings.Join(r.graph.TaskNames(), ", "))
}

func (a *app) byName(r *repository, among pick.Set, names []string) ([]*graph.Task, error) {
	set, err := pick.ByName(r.graph, among, r.here, names)
	var unknown *pick.NameError
	if errors.As(err, &unknown) && unknown.Unknown {
		if msg := a.explainPath(r, unknown.Name); msg != "" {
			return nil, wrong("%s", msg)
		}
	}
	if err != nil {
		code, msg := exitOf(err)
		if code == exitMachine { // an invalid pattern
			code = exitWrong
		}
		return nil, exit{code, msg}
	}
	return set.Sorted(r.graph), nil
}

// unexpanded reports a pattern in --pick that the shell replaced by paths.
func (a *app) unexpanded(r *repository, expr string, names []string) error {
	if expr == "" || len(names) == 0 || a.explainPath(r, names[0]) == "" || a.explainPath(r, expr) == "" {
		return nil
	}
	return wrong("the shell replaced a pattern by %s %s …: quote the pattern, such as --pick './%s/*'", expr, names[0], path.Dir(expr))
}

// explainPath explains a name that is a path: the shell probably replaced a
// pattern by it. It returns "" for other names.
func (a *app) explainPath(r *repository, name string) string {
	info, err := os.Stat(filepath.Join(a.dir, name))
	if err != nil {
		return ""
	}
	if !info.IsDir() {
		return fmt.Sprintf(
			"%q is a file, not a task; to select the tasks that read it: --file %s. If it "+
				"came from a pattern, quote the pattern so that the shell does not expand it",
			name,
			name,
		)
	}
	where := "./" + path.Join(r.here, filepath.ToSlash(filepath.Clean(name)))
	return fmt.Sprintf(
		"%q is a directory, not a task; to select its tasks: --pick %s. If it came from "+
			"a pattern, quote the pattern so that the shell does not expand it: --pick '%s/*'",
		name,
		where,
		strings.TrimSuffix("./"+path.Dir(path.Clean(where)), "/."),
	)
}

// facts returns what picks may ask.
func (a *app) facts(ctx context.Context, r *repository, s selection) pick.Facts {
	return pick.Facts{
		Changed: func() ([]*graph.Task, error) {
			found, err := a.changed(ctx, r, s)
			return touched(found), err
		},
		Failed: func() ([]*graph.Task, error) { return a.failedTasks(ctx, r) },
		Commits: func(text string) ([]*graph.Task, int, error) {
			found, n, err := a.changedBy(ctx, r, s, text)
			return touched(found), n, err
		},
	}
}

func touched(found changes.Answer) (out []*graph.Task) {
	for _, t := range found.Touched {
		out = append(out, t.Task)
	}
	return out
}

// failedTasks returns the tasks whose last result failed, in this checkout or, if
// there is a service, on this branch.
func (a *app) failedTasks(ctx context.Context, r *repository) ([]*graph.Task, error) {
	state, err := checkout.Open(r.root)
	if err != nil {
		return nil, err
	}
	defer state.Close()
	failed := map[string]bool{}
	for _, t := range r.graph.Tasks {
		if last, ok := state.Last(t.Addr()); ok && last.Failed {
			failed[t.Addr()] = true
		}
	}
	_, branch := r.git.Head(ctx)
	if client, _ := a.client(r, nil); client != nil && branch != "" {
		names, err := client.FailedOn(ctx, branch)
		if err != nil {
			fmt.Fprintf(a.Err, "warning: the service did not say what failed on this branch: %v\n", err)
		}
		for _, name := range names {
			failed[name] = true
		}
	}
	var out []*graph.Task
	for _, t := range r.graph.Tasks {
		if failed[t.Addr()] {
			out = append(out, t)
		}
	}
	return out, nil
}

// changed finds what changed since the base, and warns if everything counts as
// changed.
func (a *app) changed(ctx context.Context, r *repository, s selection) (changes.Answer, error) {
	if s.commits != "" {
		found, n, err := a.changedBy(ctx, r, s, s.commits)
		if err == nil && n == 0 {
			err = wrong("no commit since %s has %q in its message", found.Base, s.commits)
		}
		return found, err
	}
	q, err := a.question(r, s)
	if err == nil {
		q.Paths, err = a.changedPaths(r, s)
	}
	if err != nil {
		return changes.Answer{}, err
	}
	found, err := changes.Find(ctx, r.git, q)
	if found.Warning != "" {
		fmt.Fprintf(a.Err, "warning: %s\n", found.Warning)
	}
	return found, err
}

// changedBy finds what commits with a text in their message changed since the
// base, and how many there are.
func (a *app) changedBy(ctx context.Context, r *repository, s selection, text string) (changes.Answer, int, error) {
	q, err := a.question(r, s)
	if err != nil {
		return changes.Answer{}, 0, err
	}
	found, n, err := changes.FindCommits(ctx, r.git, q, text)
	if found.Warning != "" {
		fmt.Fprintf(a.Err, "warning: %s\n", found.Warning)
	}
	return found, n, err
}

// question says what to compare with.
func (a *app) question(r *repository, s selection) (changes.Question, error) {
	if s.since == changes.LastGood || s.since == "" && r.graph.Repo.Since == changes.LastGood {
		if client, _ := a.client(r, nil); client == nil {
			return changes.Question{}, wrong(
				"--since last-good needs a service: grayloft login URL, or url in [service] and GRAYLOFT_TOKEN")
		}
	}
	q := changes.Question{
		Since: s.since, Graph: r.graph, Modes: r.choice.modes, Sets: r.choice.sets,
		LastGood: func(ctx context.Context, branch string) ([]string, error) {
			client, _ := a.client(r, nil)
			good, err := client.LastGood(ctx, branch)
			var commits []string
			for _, g := range good {
				commits = append(commits, g.Commit)
			}
			return commits, err
		},
	}
	if r.ahead != nil {
		q.Changed = r.ahead.files.Changed
	}
	return q, nil
}

// changedPaths returns the files that the person named, from the root, or nil to
// ask git.
func (a *app) changedPaths(r *repository, s selection) ([]string, error) {
	list := s.files
	if s.filesFrom != "" {
		more, err := lines(s.filesFrom)
		if err != nil {
			return nil, err
		}
		list = append(list[:len(list):len(list)], more...)
	} else if len(list) == 0 {
		return nil, nil
	}
	out := []string{}
	for _, f := range list {
		p, err := a.fromRoot(r, f)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// lines reads the lines of a file, or of standard input for "-".
func lines(file string) ([]string, error) {
	in := io.Reader(os.Stdin)
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, wrong("--files-from: %v", err)
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
		return "", wrong("%s is outside the repository %s", file, r.root)
	}
	return path.Clean(filepath.ToSlash(rel)), nil
}
