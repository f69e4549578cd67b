package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/watch"
)

func (a *app) watchCommand() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use: "watch TASK…", Short: "Run tasks, and run them again when files change",
		Long: "Runs the tasks, and again whenever a file changes that is not an output: one that git does not ignore, or to\n" +
			"which the reads of a task lead. A change while tasks run stops them and starts again, except of ignored files,\n" +
			"which tasks make themselves; what finished stays cached. Ctrl-C ends it.",
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

func (a *app) watch(ctx context.Context, f runFlags, args []string) error {
	if a.Format == "json" {
		return wrong("watch does not end, so there is no document: leave out --format json")
	}
	root, err := a.findRoot()
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	w, err := watch.New(ctx, root, git.Repo{Dir: root}, func(ctx context.Context) (*graph.Graph, error) {
		r, err := a.load(ctx)
		if err != nil {
			return nil, err
		}
		return r.graph, nil
	})
	if err != nil {
		return err
	}
	defer w.Close()
	for {
		if err := a.watchOnce(ctx, f, args, w); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return exit{exitInterrupted, ""}
		}
	}
}

// watchOnce runs, and returns when a file has changed: during the run, which
// then ends early, or after it.
func (a *app) watchOnce(ctx context.Context, f runFlags, args []string, w *watch.Watcher) error {
	run, cancel := context.WithCancel(ctx)
	defer cancel()
	done := make(chan error, 1)
	w.Running(true)
	go func() {
		err := a.run(run, f, args)
		w.Running(false)
		done <- err
	}()
	said := false
	for {
		select {
		case what := <-w.Changes:
			cancel()
			if !said {
				<-done
			}
			fmt.Fprintf(a.Out, "\n%s\n", a.Soft("── "+what+" changed, "+time.Now().Format("15:04:05")))
			return nil
		case err := <-done:
			said = true
			done = nil
			if ctx.Err() == nil && err != nil {
				if _, message := exitOf(err); message != "" {
					fmt.Fprintln(a.Err, message)
				}
			}
			if ctx.Err() != nil {
				return nil
			}
			fmt.Fprintln(a.Out, a.Soft("waiting for changes; Ctrl-C ends it"))
		case err := <-w.Errors:
			fmt.Fprintf(a.Err, "warning: %v\n", err)
		case <-ctx.Done():
			if !said {
				<-done
			}
			return nil
		}
	}
}
