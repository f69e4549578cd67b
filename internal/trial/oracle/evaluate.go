package oracle

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/trial"
	"grayloft.example/grayloft/internal/trial/oracle/play"
)

// outputs are the directories of a project that tasks write.
var outputs = []string{"out", "dist"}

// writes are the paths that a task of the evaluator clears before it runs.
var writes = map[string]string{"gen": "out/gen", "pack": "dist", "lint": "out/lint.txt", "seen": "out/seen.txt", "join": "out/join.txt"}

// expected is what a clean execution leaves.
type expected struct {
	root   string
	failed map[string]bool // tasks that fail or are blocked
}

// evaluate executes every task of a clean copy of the checkout.
func (w *world) evaluate() expected {
	e := expected{root: filepath.Join(w.base, "clean"), failed: map[string]bool{}}
	w.must(os.RemoveAll(e.root))
	w.copySources(e.root)
	tracked := w.trackedOutputs()
	for i := range w.needs {
		for _, task := range tasks {
			addr := fmt.Sprintf("%s@p%d", task, i)
			if e.isBlocked(w, i, task) || w.execute(e.root, i, task, tracked) != nil {
				e.failed[addr] = true
			}
		}
	}
	return e
}

func (e expected) isBlocked(w *world, i int, task string) bool {
	failed := func(name string, k int) bool { return e.failed[fmt.Sprintf("%s@p%d", name, k)] }
	switch task {
	case "pack":
		return failed("gen", i)
	case "lint":
		return failed("pack", i)
	case "join":
		for _, j := range w.needs[i] {
			if failed("join", j) {
				return true
			}
		}
		return failed("gen", i)
	}
	return false
}

// execute executes a task: files that git tracks among its outputs are absent meanwhile, and come
// back if it does not write them.
func (w *world) execute(root string, i int, task string, tracked map[string]bool) error {
	aside := map[string]string{}
	below := filepath.Join(fmt.Sprintf("p%d", i), writes[task])
	for name := range tracked {
		if name == below || strings.HasPrefix(name, below+"/") {
			to := filepath.Join(root, ".aside", name)
			w.must(os.MkdirAll(filepath.Dir(to), 0o755))
			if os.Rename(filepath.Join(root, name), to) == nil {
				aside[name] = to
			}
		}
	}
	err := w.call(i, task).Run(root)
	for name, from := range aside {
		to := filepath.Join(root, name)
		if _, lerr := os.Lstat(to); errors.Is(lerr, fs.ErrNotExist) {
			w.must(os.MkdirAll(filepath.Dir(to), 0o755))
			w.must(os.Rename(from, to))
		}
	}
	w.must(os.RemoveAll(filepath.Join(root, ".aside")))
	return err
}

// trackedOutputs are the files that git tracks where tasks write, asked once for each state of
// git's index.
func (w *world) trackedOutputs() map[string]bool {
	index, err := os.Stat(w.r.Path(".git/index"))
	w.must(err)
	if w.tracked != nil && os.SameFile(index, w.index) && index.ModTime().Equal(w.index.ModTime()) {
		return w.tracked
	}
	out := map[string]bool{}
	w.index, w.tracked = index, out
	for _, name := range strings.Split(w.r.Git("ls-files", "-z", "p*/out/*", "p*/dist/*"), "\x00") {
		if name != "" {
			out[name] = true
		}
	}
	return out
}

// copySources copies what is not made by tasks: all files but outputs that git does not track.
func (w *world) copySources(to string) {
	tracked := w.trackedOutputs()
	w.must(filepath.WalkDir(w.r.Dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(w.r.Dir, p)
		parts := strings.Split(rel, "/")
		isOutput := len(parts) > 1 && slices.Contains(outputs, parts[1])
		switch {
		case d.IsDir() && (d.Name() == ".grayloft" || rel == ".git"):
			return filepath.SkipDir
		case d.IsDir() && isOutput:
			return nil
		case d.IsDir():
			return os.MkdirAll(filepath.Join(to, rel), 0o755)
		case isOutput && !tracked[rel]:
			return nil
		}
		return copyFile(p, filepath.Join(to, rel))
	}))
	for name, text := range w.saved {
		w.must(os.MkdirAll(filepath.Dir(filepath.Join(to, name)), 0o755))
		w.must(os.WriteFile(filepath.Join(to, name), []byte(text), 0o644))
	}
}

// copyFile copies a file or a link with its mode and its times.
func copyFile(from, to string) error {
	info, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		return os.Symlink(target, to)
	}
	if !info.Mode().IsRegular() {
		return nil
	}
	text, err := os.ReadFile(from)
	if err == nil {
		err = os.WriteFile(to, text, 0o600)
	}
	if err == nil {
		err = os.Chmod(to, info.Mode().Perm())
	}
	return err
}

// mirror makes another checkout hold the same sources, and the same repository. Its outputs and
// its state stay.
func (w *world) mirror(to *trial.Repo) {
	tracked := w.trackedOutputs()
	list, _ := os.ReadDir(to.Dir)
	for _, e := range list {
		if e.Name() == ".grayloft" {
			continue
		}
		top := filepath.Join(to.Dir, e.Name())
		inner, _ := os.ReadDir(top)
		for _, f := range inner {
			if !slices.Contains(outputs, f.Name()) {
				w.must(os.RemoveAll(filepath.Join(top, f.Name())))
			}
		}
		if !e.IsDir() {
			w.must(os.Remove(top))
		}
	}
	for name := range tracked { // outputs elsewhere become what the checkout has
		_ = os.RemoveAll(to.Path(name))
	}
	w.copySources(to.Dir)
	w.must(os.RemoveAll(to.Path(".git")))
	out, err := exec.Command("cp", "-a", w.r.Path(".git"), to.Path(".git")).CombinedOutput()
	if err != nil {
		w.t.Fatalf("copying the repository: %v\n%s", err, out)
	}
}

// refusal is what the client says of tasks that it does not run, or whose dependents it does not
// run, although the command itself would succeed.
var refusal = regexp.MustCompile(`reads the link|could not be kept|leads? (out|through)|cannot be kept|is not UTF-8|is a link|in the way`)

// check runs everything, and compares with a clean execution. It returns what is wrong.
func (w *world) check() string {
	before, present := w.sources(), w.present()
	if w.rnd.IntN(4) == 0 {
		w.r.Plan("--pick", "all")
	}
	if w.rnd.IntN(4) == 0 {
		w.r.Run(fmt.Sprintf("%s@p%d", w.pick(tasks), w.rnd.IntN(len(w.needs))), "--keep-going")
	}
	want := w.evaluate()
	rep := w.r.Run("--pick", "all", "--keep-going")
	if wrong := w.compare(w.r, rep, want); wrong != "" {
		return wrong
	}
	if after := w.sources(); after != before {
		return "files that tasks do not write changed:\n" + difference(before, after)
	}
	for _, name := range present {
		if !w.r.Has(name) {
			return name + ", which git tracks, is gone"
		}
	}
	w.saved = nil
	if w.rnd.IntN(3) == 0 {
		w.mirror(w.second)
		if wrong := w.compare(w.second, w.second.Run("--pick", "all", "--keep-going"), want); wrong != "" {
			return "in a second checkout with the same cache: " + wrong
		}
	}
	if w.far != nil && w.rnd.IntN(3) == 0 {
		w.mirror(w.far)
		if wrong := w.compare(w.far, w.far.Run("--pick", "all", "--keep-going"), want); wrong != "" {
			return "on another machine: " + wrong
		}
	}
	return ""
}

// present lists the tracked outputs that the checkout has, or had before a run was killed.
func (w *world) present() (out []string) {
	for name := range w.trackedOutputs() {
		if _, was := w.saved[name]; was || w.r.Has(name) {
			out = append(out, name)
		}
	}
	return out
}

// save remembers the tracked outputs, because a run is about to be killed.
func (w *world) save() {
	w.saved = map[string]string{}
	for name := range w.trackedOutputs() {
		if info, err := os.Lstat(w.r.Path(name)); err == nil && info.Mode().IsRegular() {
			w.saved[name] = w.r.Read(name)
		}
	}
}

// sources describes every file that no task writes.
func (w *world) sources() string {
	var b strings.Builder
	for _, line := range play.Lines(w.r.Dir, "") {
		name := strings.TrimPrefix(line, "/")
		parts := strings.Split(name, "/")
		switch {
		case strings.HasPrefix(name, ".git/"), strings.HasPrefix(name, ".grayloft/"):
		case len(parts) > 1 && slices.Contains(outputs, strings.Split(parts[1], " ")[0]):
		default:
			b.WriteString(line)
		}
	}
	return b.String()
}

// compare compares what a run left with what a clean execution leaves.
func (w *world) compare(r *trial.Repo, rep trial.Report, want expected) string {
	var unsure []string // tasks that the client refuses: nothing is said about their outputs
	for i := range w.away {
		unsure = append(unsure, fmt.Sprintf("pack@p%d", i), fmt.Sprintf("lint@p%d", i))
	}
	for _, x := range rep.Tasks {
		switch x.Outcome {
		case "ran":
			w.counts.Ran++
		case "current", "cached":
			w.counts.Reused++
		case "restored":
			w.counts.Restored++
		case "fetched":
			w.counts.Fetched++
		case "failed":
			if !want.failed[x.Task] && !slices.Contains(unsure, x.Task) {
				if !refusal.MatchString(x.Message) {
					return fmt.Sprintf("%s failed, which succeeds in a clean execution: %s\n%s", x.Task, x.Message,
						r.Grayloft("log", x.Task).Out)
				}
				w.counts.Refused++
				unsure = append(unsure, x.Task)
			}
		case "blocked":
			if !want.failed[x.Task] {
				unsure = append(unsure, x.Task)
			}
		}
		isGood := slices.Contains([]string{"ran", "current", "cached", "restored", "fetched"}, x.Outcome)
		if isGood && want.failed[x.Task] {
			return fmt.Sprintf("%s is %s, but a clean execution fails", x.Task, x.Outcome)
		}
	}
	for i := range w.needs {
		for _, task := range tasks {
			addr := fmt.Sprintf("%s@p%d", task, i)
			if want.failed[addr] || slices.Contains(unsure, addr) {
				continue
			}
			below := filepath.Join(fmt.Sprintf("p%d", i), writes[task])
			got, clean := describe(filepath.Join(r.Dir, below), below), describe(filepath.Join(want.root, below), below)
			if got != clean {
				return fmt.Sprintf("the outputs of %s, which is %s %v, differ:\n%soutcomes %v", addr, rep.Of(addr).Outcome,
					rep.Of(addr).Detail, difference(clean, got), sorted(rep.Outcomes()))
			}
		}
	}
	return ""
}

func sorted(m map[string]string) (out []string) {
	for _, k := range slices.Sorted(maps.Keys(m)) {
		out = append(out, k+" "+m[k])
	}
	return out
}

// describe describes outputs, empty directories as well.
func describe(full, name string) string {
	lines := play.Lines(full, name)
	_ = filepath.WalkDir(full, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			if list, err := os.ReadDir(p); err == nil && len(list) == 0 {
				rel, _ := filepath.Rel(full, p)
				lines = append(lines, name+"/"+rel+" is empty\n")
			}
		}
		return nil
	})
	return strings.Join(lines, "")
}

// difference shows lines that only one of two texts has.
func difference(a, b string) string {
	has := func(text string) map[string]bool {
		out := map[string]bool{}
		for _, l := range strings.Split(text, "\n") {
			out[l] = true
		}
		return out
	}
	inA, inB := has(a), has(b)
	var out strings.Builder
	show := func(sign string, lines, other map[string]bool) {
		for _, l := range slices.Sorted(maps.Keys(lines)) {
			if !other[l] {
				fmt.Fprintf(&out, "%s %.300s\n", sign, l)
			}
		}
	}
	show("-", inA, inB)
	show("+", inB, inA)
	return out.String()
}
