package probe

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
)

// depends is everything on the machine that an answer depended on: each file that the probe opened,
// looked for or ran, and each directory that it listed, with their status.
type depends []dependence

// dependence is one path: its status (links are followed), or that it does not exist.
type dependence struct {
	Path   string `json:"path"`
	Status string `json:"status"`           // "" if it does not exist
	Listed bool   `json:"listed,omitempty"` // a directory whose entries count
}

var (
	// errUnknown is wrapped if nobody can know what an answer depended on.
	errUnknown = errors.New("what it depends on is not known")
	// errMoving is wrapped if something that an answer depended on changed a moment ago.
	errMoving = errors.New("what it depends on changed a moment ago")
)

// watched is a probe that is traced while it runs.
type watched struct {
	opened sandbox.Opened
	err    error
}

// dress makes a command run under the tracer.
func (w *watched) dress(c *process.Command) {
	w.opened.All = true
	c.Wrap = func(cmd *exec.Cmd) (began func() error, ended func(*process.Result) error, err error) {
		began = func() error { return nil }
		ended = func(*process.Result) error { return nil }
		stop, err := sandbox.Trace(cmd, process.MarkVar, &w.opened)
		if err != nil {
			w.err = err
			return began, ended, nil
		}
		return began, func(*process.Result) error { w.err = stop(); return nil }, nil
	}
}

// mostDepends limits how much is remembered of one answer.
const mostDepends = 20_000

// depends returns what the probe depended on. It fails if that cannot be told, or if any of it may have
// changed since a moment, but for files that the probe declares: those count by their contents.
func (w *watched) depends(since time.Time, isDeclared func(path string) bool) (depends, error) {
	switch {
	case w.err != nil:
		return nil, fmt.Errorf("%w: %w", errUnknown, w.err)
	case w.opened.Talked:
		return nil, fmt.Errorf("%w: it asked another process or machine", errUnknown)
	case len(w.opened.Touched) > mostDepends:
		return nil, fmt.Errorf("%w: it looked at more than %d files", errUnknown, mostDepends)
	}
	var out depends
	for _, p := range slices.Sorted(maps.Keys(w.opened.Touched)) {
		if isVolatile(p) || w.opened.Wrote[p] && !w.opened.Read[p] { // what it cannot read decides nothing
			continue
		}
		if info, err := os.Stat(p); err == nil && !info.IsDir() && !info.Mode().IsRegular() {
			return nil, fmt.Errorf("%w: it reads %s, which is no file", errUnknown, p)
		}
		x := dependence{Path: p, Listed: w.opened.Listed[p]}
		var settled bool
		switch x.Status, settled = x.look(since); {
		case settled, isDeclared(p):
		case w.opened.Wrote[p]:
			return nil, fmt.Errorf("%w: it writes %s", errUnknown, p)
		default:
			return nil, fmt.Errorf("%w: %s", errMoving, p)
		}
		out = append(out, x)
	}
	return out, nil
}

// isVolatile tells whether a path is not on a disk: what the kernel says of the machine and of
// processes stays out of keys, as it does without a probe. Nor does anything depend on the counters
// that each command of the Go toolchain increments (go help telemetry).
func isVolatile(p string) bool {
	isIn := func(dir string) bool { return p == dir || strings.HasPrefix(p, dir+"/") }
	return isIn("/proc") || isIn("/sys") || isIn("/dev") || strings.Contains(p, "/go/telemetry/")
}

// look returns the present status, and whether a change since a moment would show in it.
func (x dependence) look(since time.Time) (status string, settled bool) {
	info, err := os.Stat(x.Path)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return "", true
		}
		return "cannot be read: " + err.Error(), true
	}
	if info.IsDir() && !x.Listed {
		return "a directory", true // which names it has was not asked
	}
	st, ok := files.StatusOfInfo(info)
	return st.String(), ok && st.SettledBefore(since)
}

// without leaves out files that a probe declares.
func (d depends) without(isDeclared func(path string) bool) depends {
	return slices.DeleteFunc(slices.Clone(d), func(x dependence) bool { return isDeclared(x.Path) })
}

// hold tells whether everything is as it was.
func (d depends) hold(look func(dependence) string) bool {
	return !slices.ContainsFunc(d, func(x dependence) bool { return look(x) != x.Status })
}

// now looks at the machine.
func now(x dependence) string {
	status, _ := x.look(time.Time{})
	return status
}
