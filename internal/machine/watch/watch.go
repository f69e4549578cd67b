// Package watch reports changes to the files of a checkout that can affect
// tasks: not outputs, and of what git ignores only what patterns lead to.
package watch

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/fsnotify/fsnotify"

	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/core/graph"
)

// Source is what a watcher asks about a checkout.
type Source interface {
	// Files lists the files that git does not ignore, from the root.
	Files(ctx context.Context, below ...string) ([]string, error)
	// Expanded adds the files of submodules that are among the paths.
	Expanded(ctx context.Context, paths []string) ([]string, error)
	// Ignored returns those of the paths that git ignores.
	Ignored(ctx context.Context, among []string) ([]string, error)
}

// Watcher watches the directories of a checkout.
type Watcher struct {
	Changes <-chan string // a path from the root, once files have been unchanged for a moment
	Errors  <-chan error

	events *fsnotify.Watcher
	root   string
	source Source
	load   func(context.Context) (*graph.Graph, error)
	graph  *graph.Graph // the last valid one; nil: none yet
	busy   atomic.Int64 // until when tasks run, in nanoseconds since 1970
}

const (
	calm    = 150 * time.Millisecond // how long files must be unchanged: editors and git change several at a time
	longest = 500 * time.Millisecond // after this, changes are looked at even if more arrive
)

// New watches the checkout at root until ctx ends. Load reads its declarations;
// while they are invalid, the last valid ones decide what is an output.
func New(ctx context.Context, root string, source Source, load func(context.Context) (*graph.Graph, error)) (*Watcher, error) {
	events, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("watching files: %w", err)
	}
	changes, errs := make(chan string, 1), make(chan error, 1)
	w := &Watcher{Changes: changes, Errors: errs, events: events, root: root, source: source, load: load}
	w.graph, _ = load(ctx) // the run reports an error
	if err := w.addAll(ctx); err != nil {
		events.Close()
		return nil, err
	}
	go w.listen(ctx, changes, errs)
	return w, nil
}

// Running says whether tasks run. What git ignores is then not reported, although patterns lead to it:
// tasks make such files, and would be started again by themselves.
func (w *Watcher) Running(is bool) {
	if is {
		w.busy.Store(math.MaxInt64)
	} else {
		w.busy.Store(time.Now().Add(calm).UnixNano()) // events may be late
	}
}

// Close ends the watching.
func (w *Watcher) Close() error { return w.events.Close() }

// addAll watches the directories of all files that git does not ignore, and of ignored ones to which
// patterns lead.
func (w *Watcher) addAll(ctx context.Context) error {
	files, err := w.source.Files(ctx)
	if err == nil {
		files, err = w.source.Expanded(ctx, files)
	}
	if err != nil {
		return err
	}
	dirs := map[string]bool{".": true}
	for _, p := range append(files, w.led(ctx)...) {
		for d := path.Dir(p); !dirs[d]; d = path.Dir(d) {
			dirs[d] = true
		}
	}
	for d := range dirs {
		if err := w.events.Add(filepath.Join(w.root, filepath.FromSlash(d))); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf(
				"watching %s: %w; the system limits how many directories may be "+
					"watched (on Linux: sysctl fs.inotify.max_user_watches), and there are %d",
				d,
				err,
				len(dirs),
			)
		}
	}
	return nil
}

// listen collects events, and looks at what they are about once files are
// unchanged.
func (w *Watcher) listen(ctx context.Context, changes chan<- string, errs chan<- error) {
	touched := map[string]bool{} // by path; whether it was touched while no task ran
	var first time.Time
	var quiet <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case ev, ok := <-w.events.Events:
			if !ok {
				return
			}
			p, ok := w.path(ev)
			if !ok {
				continue
			}
			if len(touched) == 0 {
				first = time.Now()
			}
			touched[p] = touched[p] || time.Now().UnixNano() > w.busy.Load()
			quiet = time.After(max(0, min(calm, longest-time.Since(first))))
		case err, ok := <-w.events.Errors:
			if !ok {
				return
			}
			select {
			case errs <- fmt.Errorf("watching files: %w", err):
			default: // the last one was not read yet
			}
		case <-quiet:
			quiet = nil
			what := w.relevant(ctx, touched)
			clear(touched)
			if what == "" {
				continue
			}
			select {
			case changes <- what:
			default: // a pending path means the same
			}
		}
	}
}

// path returns the path of an event from the root, unless it can be of no
// interest.
func (w *Watcher) path(ev fsnotify.Event) (string, bool) {
	rel, err := filepath.Rel(w.root, ev.Name)
	if err != nil || ev.Op == fsnotify.Chmod {
		return "", false
	}
	rel = filepath.ToSlash(rel)
	for seg := range strings.SplitSeq(rel, "/") {
		if seg == ".git" || seg == ".grayloft" {
			return "", false
		}
	}
	return rel, true
}

// relevant returns one of the paths that can affect a task, or "". New
// directories are watched, at every depth, and the files in them count as
// touched. Git is asked once for each level of new directories.
func (w *Watcher) relevant(ctx context.Context, touched map[string]bool) string {
	w.reload(ctx, touched)
	found := ""
	for level := maps.Clone(touched); len(level) > 0; {
		paths := w.withoutIgnored(ctx, slices.DeleteFunc(slices.Collect(maps.Keys(level)), w.isOutput), level)
		inside := map[string]bool{}
		for _, p := range paths {
			entries, isDir := w.open(p)
			if !isDir && (found == "" || p < found) {
				found = p
			}
			for _, e := range entries {
				inside[e] = level[p]
			}
		}
		level = inside
	}
	return found
}

// reload reads the declarations again if a file that contains some was touched.
func (w *Watcher) reload(ctx context.Context, touched map[string]bool) {
	changed := w.graph == nil
	for p := range touched {
		changed = changed || change.HasDeclarations(w.graph, p)
	}
	if !changed {
		return
	}
	if g, err := w.load(ctx); err == nil {
		w.graph = g
		for _, p := range w.led(ctx) {
			_ = w.events.Add(filepath.Join(w.root, filepath.FromSlash(path.Dir(p)))) // it may be gone again
		}
	}
}

// led returns the ignored paths at which patterns start, and what is below them.
func (w *Watcher) led(ctx context.Context) (out []string) {
	for _, start := range w.ignoredStarts(ctx, nil) {
		out = append(out, start)
		full := filepath.Join(w.root, filepath.FromSlash(start))
		_ = filepath.WalkDir(full, func(p string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() && d.Name() == ".git" {
				return fs.SkipDir
			}
			if rel, rerr := filepath.Rel(w.root, p); err == nil && rerr == nil && d.IsDir() {
				out = append(out, path.Join(filepath.ToSlash(rel), "any"))
			}
			return nil // what is gone again is not watched
		})
	}
	return out
}

// ignoredStarts returns the paths, among those at which patterns start, that git ignores. If among is
// not empty, only those that are in one of these paths or contain it.
func (w *Watcher) ignoredStarts(ctx context.Context, among []string) []string {
	if w.graph == nil {
		return nil
	}
	starts := w.graph.ReadStarts() // not of probes: what installs packages would start itself again
	if len(among) > 0 {
		starts = slices.DeleteFunc(starts, func(s string) bool {
			return !slices.ContainsFunc(among, func(p string) bool { return inside(p, s) || inside(s, p) })
		})
	}
	if len(starts) == 0 {
		return nil
	}
	ignored, err := w.source.Ignored(ctx, starts)
	if err != nil {
		return nil
	}
	return ignored
}

func inside(p, dir string) bool { return p == dir || strings.HasPrefix(p, dir+"/") }

// isOutput tells whether a task writes the file. Declarations are never outputs.
func (w *Watcher) isOutput(p string) bool {
	return w.graph != nil && w.graph.IsOutput(p) && !change.HasDeclarations(w.graph, p)
}

// withoutIgnored drops ignored paths, except those to which a pattern leads and that were touched while
// no task ran.
func (w *Watcher) withoutIgnored(ctx context.Context, paths []string, idle map[string]bool) []string {
	if len(paths) == 0 {
		return nil
	}
	ignored, err := w.source.Ignored(ctx, paths)
	if err != nil {
		return paths // rather run once too often
	}
	skip := map[string]bool{}
	var starts []string
	if len(ignored) > 0 {
		starts = w.ignoredStarts(ctx, ignored)
	}
	for _, p := range ignored {
		skip[p] = !idle[p] || !slices.ContainsFunc(starts, func(s string) bool { return inside(p, s) || inside(s, p) })
	}
	return slices.DeleteFunc(paths, func(p string) bool { return skip[p] })
}

// open watches a directory, and returns what is in it. A directory that was
// watched before returns nothing: its contents arrive as events.
func (w *Watcher) open(p string) (inside []string, isDir bool) {
	full := filepath.Join(w.root, filepath.FromSlash(p))
	info, err := os.Lstat(full)
	if err != nil || !info.IsDir() {
		return nil, false
	}
	if slices.Contains(w.events.WatchList(), full) {
		return nil, true
	}
	if w.events.Add(full) != nil {
		return nil, true // it is gone again
	}
	entries, err := os.ReadDir(full)
	if err != nil {
		return nil, true
	}
	for _, e := range entries {
		if e.Name() != ".git" && e.Name() != ".grayloft" {
			inside = append(inside, path.Join(p, e.Name()))
		}
	}
	return inside, true
}
