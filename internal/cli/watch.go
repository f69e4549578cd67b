package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
)

func (a *app) watchCommand() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use: "watch TASK…", Short: "Run tasks, and run them again when files change",
		Long: "Runs the tasks, and again whenever a file changes that is not an output. A change while tasks run stops them\nand starts again; finished tasks stay cached. Ctrl-C ends it." +
			"running and begins anew; what came out by then is kept. Ctrl-C ends it.",
		Example: "  grayloft watch test@fares\n  grayloft watch --pick 'affected' test",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, f.extra = behindDash(cmd, args)
			return a.watch(cmd.Context(), f, args)
		},
	}
	f.sharedFlags(c)
	f.workFlags(c)
	c.Flags().StringVar(&f.logs, "logs", "failures", "live, whole, failures or none")
	return c
}

// calm is how long files must be unchanged before a run starts: editors and git
// change several at a time.
const calm = 150 * time.Millisecond

func (a *app) watch(ctx context.Context, f runFlags, args []string) error {
	if a.format == "json" {
		return exit{exitWrong, "grayloft: watch does not end, so there is no document: leave out --format json"}
	}
	root, err := a.findRoot()
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	w, err := a.watcher(ctx, root)
	if err != nil {
		return err
	}
	defer w.Close()
	changed := make(chan string, 1)
	go w.listen(ctx, changed)
	for {
		if err := a.watchOnce(ctx, f, args, changed); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return exit{exitInterrupted, ""}
		}
	}
}

// watchOnce runs, and returns when a file has changed: during the run, which
// then ends early, or after it.
func (a *app) watchOnce(ctx context.Context, f runFlags, args []string, changed <-chan string) error {
	run, cancel := context.WithCancel(ctx)
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- a.run(run, f, args) }()
	said := false
	for {
		select {
		case what := <-changed:
			cancel()
			if !said {
				<-done
			}
			fmt.Fprintf(a.out, "\n%s\n", a.soft("── "+what+" changed, "+time.Now().Format("15:04:05")))
			return nil
		case err := <-done:
			said = true
			done = nil
			var ex exit
			if ctx.Err() == nil && err != nil && (!errors.As(err, &ex) || ex.msg != "") {
				fmt.Fprintln(a.err, err)
			}
			if ctx.Err() != nil {
				return nil
			}
			fmt.Fprintln(a.out, a.soft("waiting for changes; Ctrl-C ends it"))
		case <-ctx.Done():
			if !said {
				<-done
			}
			return nil
		}
	}
}

// watcher reports changes to the files of a repository.
type watcher struct {
	*fsnotify.Watcher
	a     *app
	root  string
	graph *graph.Graph // the last valid one; used only by the listener
}

func (a *app) watcher(ctx context.Context, root string) (*watcher, error) {
	fw, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, exit{exitFailed, "grayloft: watching files: " + err.Error()}
	}
	w := &watcher{Watcher: fw, a: a, root: root}
	if r, err := a.load(ctx); err == nil {
		w.graph = r.graph
	}
	files, err := git.Repo{Dir: root}.Files(ctx)
	if err != nil {
		fw.Close()
		return nil, err
	}
	dirs := map[string]bool{root: true}
	for _, p := range files {
		for d := filepath.Dir(filepath.Join(root, filepath.FromSlash(p))); !dirs[d] && len(d) > len(root); d = filepath.Dir(d) {
			dirs[d] = true
		}
	}
	for d := range dirs {
		if err := w.Add(d); err != nil && !errors.Is(err, fs.ErrNotExist) {
			fw.Close()
			return nil, exit{exitFailed, fmt.Sprintf("grayloft: watching %s: %v; the system limits how many directories may be watched (on Linux: sysctl fs.inotify.max_user_watches), and there are %d", d, err, len(dirs))}
		}
	}
	return w, nil
}

// listen sends the path of a changed file, once files have been unchanged for a
// moment.
func (w *watcher) listen(ctx context.Context, changed chan<- string) {
	var what string
	var still <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case ev, ok := <-w.Events:
			if !ok {
				return
			}
			if p, counts := w.counts(ev); counts {
				if what == "" {
					what = p
				}
				still = time.After(calm)
			}
		case err, ok := <-w.Errors:
			if !ok {
				return
			}
			fmt.Fprintf(w.a.err, "warning: watching files: %v\n", err)
		case <-still:
			still = nil
			select {
			case changed <- what:
			default: // a pending path means the same
			}
			what = ""
		}
	}
}

// counts tells whether an event is about a file that is not an output, and
// watches new directories.
func (w *watcher) counts(ev fsnotify.Event) (string, bool) {
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
	if info, err := os.Lstat(ev.Name); err == nil && info.IsDir() {
		if ev.Has(fsnotify.Create) {
			_ = w.Add(ev.Name)
		}
		return "", false // their contents arrive as separate events
	}
	if base := filepath.Base(rel); base == decl.ProjectFile || base == decl.RootFile {
		return rel, true
	}
	return rel, !w.made(rel)
}

// made tells whether a task writes a file, or git ignores it.
func (w *watcher) made(rel string) bool {
	if r, err := w.a.load(w.a.ctx); err == nil {
		w.graph = r.graph // while declarations are invalid, the last valid ones decide
	}
	if w.graph != nil && w.graph.IsOutput(rel) {
		return true
	}
	ignored, err := git.Repo{Dir: w.root}.Ignored(w.a.ctx, []string{rel})
	return err == nil && len(ignored) == 1
}
