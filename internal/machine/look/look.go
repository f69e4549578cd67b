// Package look takes the ingredients of tasks from the machine: the files that
// they read, their settings and environment, and the answers of probes. It
// decides nothing and changes nothing.
package look

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/probe"
)

// Looker takes ingredients. It is safe for concurrent use.
type Looker struct {
	Graph    *graph.Graph
	Files    *files.Checkout
	Env      environment.Environment
	Platform string
	Args     []string             // for the commands of picked tasks
	Picked   map[*graph.Task]bool // the tasks that were requested
	Answers  map[probe.Question]string

	mu   sync.Mutex
	snap *files.Snapshot
}

// Outputs are what the tasks that another one depends on left.
type Outputs interface {
	// Listing returns what stands for a dependency in a key: the digest of its listing, or its early key.
	Listing(u *graph.Task) digest.Digest
	// Contains tells whether the outputs of a dependency contain a path, from the root.
	Contains(u *graph.Task, path string) bool
	// Leads returns the links among them that lead out of their listing.
	Leads(u *graph.Task) []files.Lead
}

// left returns what a task sees of the outputs of its dependencies.
func left(t *graph.Task, of Outputs) (out files.Left) {
	dependencies := t.KeyDependencies()
	out.Contains = func(path string) bool {
		return slices.ContainsFunc(dependencies, func(u *graph.Task) bool { return of.Contains(u, path) })
	}
	for _, u := range dependencies {
		out.Leads = append(out.Leads, of.Leads(u)...)
	}
	return out
}

// Taken is a task's ingredients with the texts that they refer to.
type Taken struct {
	In    *key.Ingredients
	Parts files.Parts
	Key   digest.Digest
}

// Reader returns a function that reads the texts of the ingredients, and other
// digests from otherwise.
func (tk Taken) Reader(otherwise func(digest.Digest) ([]byte, error)) func(digest.Digest) ([]byte, error) {
	texts := sync.OnceValue(tk.Parts.All)
	return func(d digest.Digest) ([]byte, error) {
		if text, ok := texts()[d]; ok {
			return text, nil
		}
		return otherwise(d)
	}
}

// Snapshot returns the current snapshot of the files.
func (l *Looker) Snapshot() *files.Snapshot {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.snap
}

// SetSnapshot replaces the snapshot.
func (l *Looker) SetSnapshot(s *files.Snapshot) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.snap = s
}

// Refresh takes a new snapshot; on an error the old one stays.
func (l *Looker) Refresh(ctx context.Context) {
	if snap, err := l.Files.Snapshot(ctx); err == nil {
		l.SetSnapshot(snap)
	}
}

// ArgsOf returns the arguments that a task is called with: those of the call if it was picked.
func (l *Looker) ArgsOf(t *graph.Task) []string {
	if l.Picked[t] {
		return l.Args
	}
	return nil
}

// Ingredients takes the ingredients of a task from a snapshot.
func (l *Looker) Ingredients(t *graph.Task, snap *files.Snapshot, of Outputs) (Taken, error) {
	in := &key.Ingredients{
		Dir: t.Project.Dir, Command: t.Decl.Run.Words(), Writes: t.Decl.Writes.Texts(), Scratch: t.Decl.Scratch.Texts(),
		Isolation: string(t.Isolation), Network: t.Network, Portable: t.Portable, Platform: l.Platform, Args: l.ArgsOf(t),
	}
	if t.Portable {
		in.Platform = ""
	}
	l.addValues(in, t)
	own, needs, parts, err := snap.Reads(t, left(t, of))
	if err != nil {
		return Taken{}, err
	}
	in.Files, in.Needs = own, needs
	for _, u := range t.KeyDependencies() {
		in.Dependencies = append(in.Dependencies, key.Dependency{Task: u.Addr(), Dir: u.Project.Dir, Listing: of.Listing(u)})
	}
	slices.SortFunc(in.Dependencies, func(a, b key.Dependency) int { return cmp.Compare(a.Task, b.Task) })
	return Taken{in, parts, in.Key()}, nil
}

// addValues adds variables, settings and probes.
func (l *Looker) addValues(in *key.Ingredients, t *graph.Task) {
	for _, v := range t.Env {
		ev := key.EnvValue{Name: v.Name}
		if val, ok := l.Env.Value(v); ok {
			ev.Set, ev.Value = true, key.EnvDigest(val)
		}
		in.Env = append(in.Env, ev)
	}
	in.EnvUnkeyed, in.Secrets = l.whetherSet(t.EnvUnkeyed), l.whetherSet(t.Secrets)
	for _, name := range t.Settings {
		in.Settings = append(in.Settings, key.NamedValue{Name: name, Value: l.Graph.Chosen[name]})
	}
	for _, p := range t.Decl.Probes.Items {
		in.Probes = append(in.Probes, key.NamedValue{Name: p.Text, Value: l.Answers[probe.Of(l.Graph, p.Text, t.Project)]})
	}
	slices.SortFunc(in.Probes, func(a, b key.NamedValue) int { return cmp.Compare(a.Name, b.Name) })
	in.Probes = slices.Compact(in.Probes)
}

func (l *Looker) whetherSet(list []decl.EnvVar) []key.EnvValue {
	var out []key.EnvValue
	for _, v := range list {
		_, set := l.Env.Value(v)
		out = append(out, key.EnvValue{Name: v.Name, Set: set})
	}
	return out
}

// Seen is the state of a task's files at one moment: its ingredients, and all
// files of its project.
type Seen struct {
	Taken
	Rows    listing.List // of the files that it reads, from the root
	watched files.Watched
	paths   []string // of its project, without those that it opens
	project digest.Digest
}

// mostWaits is how often files are waited for that have just changed: one that keeps changing will be
// noticed at the end.
const mostWaits = 3

// Again matches and reads a task's files again. Their status is taken before their contents are read,
// so that a later change shows, whatever was read.
func (l *Looker) Again(ctx context.Context, t *graph.Task, of Outputs) (Seen, error) {
	for tries := 0; ; tries++ {
		seen, err := l.again(ctx, t, of)
		wait := seen.watched.Unsettled()
		if err != nil || wait == 0 || tries == mostWaits {
			return seen, err
		}
		select { // a change within the same tick would not show
		case <-ctx.Done():
			return seen, ctx.Err()
		case <-time.After(wait):
		}
	}
}

func (l *Looker) again(ctx context.Context, t *graph.Task, of Outputs) (Seen, error) {
	snap, dirs, err := l.Files.Again(ctx, l.Snapshot(), dirs(t)...)
	if err != nil {
		return Seen{}, err
	}
	reads, err := snap.PathsOf(t, left(t, of))
	if err != nil {
		return Seen{}, err
	}
	watched := l.Files.Watch(ctx, reads, dirs)
	tk, err := l.Ingredients(t, snap, of)
	if err != nil {
		return Seen{}, err
	}
	paths := snap.Tree.Project(t.Project)
	if len(t.Opens) > 0 {
		paths = slices.DeleteFunc(paths, t.OpensFile)
	}
	return Seen{tk, tk.Parts.Rows(), watched, paths, snap.Fingerprint(paths)}, nil
}

// Since describes how the files that a task reads changed since a moment, or that they were in another
// state meanwhile; "" if neither.
func (l *Looker) Since(ctx context.Context, t *graph.Task, before Seen, of Outputs) (string, error) {
	after, err := l.again(ctx, t, of)
	if err != nil {
		return "", err
	}
	if why := readsChanged(before, after); why != "" {
		return why, nil
	}
	if t.Isolation == decl.Sealed { // it cannot have seen the others
		return "", nil
	}
	return projectChanged(before, after), nil
}

// dirs returns the directories that contain everything that the task may read;
// none means the whole repository.
func dirs(t *graph.Task) []string {
	out := []string{t.Project.Dir}
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			out = append(out, p.Dir)
		}
	}
	for _, read := range t.Reads {
		if read.Scope == decl.Root && !read.Negated {
			out = append(out, read.Pattern.LiteralStart())
		}
	}
	for _, d := range out {
		if d == "" || d == "." {
			return nil
		}
	}
	return out
}

// readsChanged describes how the files that a task reads changed between two
// moments, or meanwhile; "" if they did not. Equal keys are not enough: what changed and changed back
// was seen by the task.
func readsChanged(before, after Seen) string {
	if before.Key != after.Key {
		more := difference(before.paths, after.paths)
		if more == "" {
			more = named(before.watched.Changed(after.watched))
		}
		return "a file it reads changed while it ran" + more
	}
	if list := before.watched.Changed(after.watched); len(list) > 0 {
		return "what it reads was in another state while it ran" + named(list)
	}
	return ""
}

// projectChanged describes how the files of a task's project changed between two
// moments; "" if they did not.
func projectChanged(before, after Seen) string {
	if before.project == after.project {
		return ""
	}
	return "files of its project that no task writes changed while it ran" + difference(before.paths, after.paths)
}

func difference(before, after []string) string {
	var out []string
	for _, p := range after {
		if _, ok := slices.BinarySearch(before, p); !ok {
			out = append(out, p+" is new")
		}
	}
	for _, p := range before {
		if _, ok := slices.BinarySearch(after, p); !ok {
			out = append(out, p+" is gone")
		}
	}
	return named(out)
}

func named(list []string) string {
	if len(list) == 0 {
		return ""
	}
	if len(list) > 3 {
		list = append(list[:2:2], fmt.Sprintf("and %d more", len(list)-2))
	}
	return " (" + strings.Join(list, ", ") + ")"
}
