package sandbox

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/process"
)

// Watch records what a traced task opens.
type Watch struct {
	Root string // of the repository
	Task *graph.Task
	Env  environment.Environment
	// Err is why the task could not be traced. It runs nevertheless.
	Err    error
	opened Opened
}

// Dress makes a command run under the tracer.
func (w *Watch) Dress(c *process.Command) {
	c.Wrap = func(cmd *exec.Cmd) (began func() error, ended func(*process.Result) error, err error) {
		began = func() error { return nil }
		ended = func(*process.Result) error { return nil }
		stop, err := Trace(cmd, process.MarkVar, &w.opened)
		if err != nil {
			w.Err = err
			return began, ended, nil
		}
		return began, func(*process.Result) error { w.Err = stop(); return nil }, nil
	}
}

// Findings compares what was opened with the declaration. Reads are the files
// that the key covers.
func (w *Watch) Findings(reads listing.List) []drift.Finding {
	home, _ := w.Env.Lookup("HOME")
	seen := drift.Seen{Home: resolveLinks(home)}
	for _, row := range reads {
		seen.Declared = append(seen.Declared, row.Path)
	}
	for _, p := range slices.Sorted(maps.Keys(w.opened.Read)) {
		info, err := os.Lstat(p)
		if err != nil || info.IsDir() {
			continue
		}
		if rel, ok := below(w.Root, p); ok {
			if !w.isTool(rel) {
				seen.Read = append(seen.Read, rel)
			}
		} else if !System(p) && !w.isExpected(p, home) {
			seen.Outside = append(seen.Outside, p)
		}
	}
	for _, p := range slices.Sorted(maps.Keys(w.opened.Wrote)) {
		rel, ok := below(w.Root, p)
		if !ok {
			seen.Caches = append(seen.Caches, p)
		} else if info, err := os.Lstat(p); err != nil || info.IsDir() {
			continue
		} else if w.isTool(rel) {
			seen.Stored = append(seen.Stored, rel)
		} else {
			seen.Wrote = append(seen.Wrote, rel)
		}
	}
	return drift.Compare(w.Task, seen)
}

// isExpected tells whether a path outside the repository is declared by the
// task (a toolchain, or scratch below the home directory), or is temporary.
func (w *Watch) isExpected(p, home string) bool {
	dirs := []string{os.TempDir(), "/dev", "/run", "/sys", "/var/tmp"}
	if t, ok := w.Env.Lookup("TMPDIR"); ok {
		dirs = append(dirs, t)
	}
	for _, d := range w.Task.HomeScratch {
		dirs = append(dirs, resolveLinks(filepath.Join(home, filepath.FromSlash(d))))
	}
	toolDirs(w.Task, home, func(d string) { dirs = append(dirs, resolveLinks(d)) }, func(string) {})
	return slices.ContainsFunc(dirs, func(d string) bool { _, ok := below(d, p); return ok })
}

// isTool tells whether a path of the repository belongs to a toolchain of the task.
func (w *Watch) isTool(rel string) (is bool) {
	toolDirs(w.Task, "", func(string) {}, func(dir string) { is = is || strings.HasPrefix(rel, dir+"/") })
	return is
}

func below(dir, p string) (rel string, ok bool) {
	rel, ok = strings.CutPrefix(p, strings.TrimSuffix(dir, "/")+"/")
	return filepath.ToSlash(rel), ok
}
