package engine

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/isolate"
	"grayloft.example/grayloft/internal/machine/process"
)

// watched is what an audited task opens.
type watched struct {
	r      *run
	task   *graph.Task
	opened isolate.Opened
	err    error // it could not be watched
}

// dress makes a command's opens known.
func (w *watched) dress(c *process.Command) {
	c.Wrap = func(cmd *exec.Cmd) (began, ended func() error, err error) {
		began = func() error { return nil }
		stop, err := isolate.Trace(cmd, process.MarkVar, &w.opened)
		if err != nil {
			w.err = err
			return began, began, nil // it runs all the same, and that is said
		}
		return began, func() error { w.err = stop(); return nil }, nil
	}
}

// findings compares what was opened with what was declared.
func (w *watched) findings(reads listing.List) []drift.Finding {
	var seen drift.Seen
	for _, row := range reads {
		seen.Declared = append(seen.Declared, row.Path)
	}
	home, _ := lookupEnv(w.r.Env, "HOME")
	seen.Home = real(home)
	for _, p := range slices.Sorted(maps.Keys(w.opened.Read)) {
		info, err := os.Lstat(p)
		if err != nil || info.IsDir() {
			continue
		}
		if rel, ok := below(w.r.State.Root, p); ok {
			seen.Read = append(seen.Read, rel)
		} else if !isolate.System(p) && !w.expected(p, home) {
			seen.Outside = append(seen.Outside, p)
		}
	}
	for _, p := range slices.Sorted(maps.Keys(w.opened.Wrote)) {
		rel, ok := below(w.r.State.Root, p)
		if !ok {
			seen.Caches = append(seen.Caches, p)
		} else if info, err := os.Lstat(p); err == nil && !info.IsDir() {
			seen.Wrote = append(seen.Wrote, rel)
		}
	}
	return drift.Compare(w.task, seen)
}

// expected tells whether a path outside of the repository is one that the task
// declares: a toolchain's, or what it keeps below the person's home; or one for
// temporary files.
func (w *watched) expected(p, home string) bool {
	dirs := []string{os.TempDir(), "/dev", "/run", "/sys", "/var/tmp"}
	if t, ok := lookupEnv(w.r.Env, "TMPDIR"); ok {
		dirs = append(dirs, t)
	}
	for _, d := range w.task.HomeScratch {
		dirs = append(dirs, real(filepath.Join(home, filepath.FromSlash(d))))
	}
	for _, item := range w.task.Decl.Probes.Items {
		for _, d := range w.r.Graph.Repo.Probes[item.Text].Dirs {
			if rel, ok := strings.CutPrefix(d, "home:"); ok {
				d = filepath.Join(home, filepath.FromSlash(rel))
			}
			dirs = append(dirs, real(d))
		}
	}
	return slices.ContainsFunc(dirs, func(d string) bool { _, ok := below(d, p); return ok })
}

func below(dir, p string) (rel string, ok bool) {
	rel, ok = strings.CutPrefix(p, strings.TrimSuffix(dir, "/")+"/")
	return filepath.ToSlash(rel), ok
}

// audited notes what was found.
func (w *watched) audited(res *Result, reads listing.List) {
	switch {
	case w.err == nil:
		res.Drift = w.findings(reads)
	case errors.Is(w.err, isolate.ErrNoTracer):
		res.unheld = w.err.Error()
	default:
		res.unheld = "a task could not be audited: " + w.err.Error()
	}
}

// wrongOnes says that a result is not kept, if what was found makes reuse
// wrong.
func wrongOnes(list []drift.Finding) string {
	n := 0
	for _, f := range list {
		if f.Wrong {
			n++
		}
	}
	switch n {
	case 0:
		return ""
	case 1:
		return "not kept: its declaration misses 1 line"
	}
	return fmt.Sprintf("not kept: its declaration misses %d lines", n)
}
