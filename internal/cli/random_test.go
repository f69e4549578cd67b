package cli_test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// TestPlansForetellRuns makes random edits to random repositories, runs after each,
// and compares every output, byte for byte, with a clean run without a cache.
// Seeds are fixed; each trial has its own steps.
func TestPlansForetellRuns(t *testing.T) {
	steps := 60
	if testing.Short() {
		steps = 15
	}
	bin := trial.Build(t)
	for seed := range uint64(4) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, seed, bin)
			for i := range steps {
				what := w.edit()
				w.compare(fmt.Sprintf("step %d: %s", i, what))
				if t.Failed() {
					return
				}
			}
			if w.ran == 0 || w.reused == 0 {
				t.Errorf("%d ran and %d were reused: the test says little", w.ran, w.reused)
			}
			if w.sure == 0 || w.open == 0 {
				t.Errorf("plans were sure of %d and left %d open: the test says little", w.sure, w.open)
			}
			t.Logf("%d steps: %d ran, %d were reused, %d cut off early; plans were sure of %d, and left %d open", steps, w.ran, w.reused, w.cut, w.sure, w.open)
		})
	}
}

// world is a random repository: projects that need each other, each with a
// generator, a join over its outputs and those of its needs, and a check.
type world struct {
	t       *testing.T
	rnd     *rand.Rand
	r       *trial.Repo
	needs   [][]int
	version []map[string]int // of each task's command
	extra   []string         // items added to reads
	offers  []string
	env     int
	ran     int
	reused  int
	cut     int
	sure    int // predictions of plans that came true
	open    int // predictions that depended on other tasks
}

func newWorld(t *testing.T, seed uint64, bin string) *world {
	w := &world{t: t, rnd: rand.New(rand.NewPCG(seed, 99))}
	n := 3 + w.rnd.IntN(2)
	files := map[string]string{".gitignore": "out/\n"}
	for i := range n {
		var needs []int
		for j := range i {
			if w.rnd.IntN(2) == 0 {
				needs = append(needs, j)
			}
		}
		w.needs = append(w.needs, needs)
		w.version = append(w.version, map[string]int{})
		w.extra = append(w.extra, "")
		w.offers = append(w.offers, `"src/**"`)
		files[fmt.Sprintf("p%d/in/a.txt", i)] = "a\n"
		files[fmt.Sprintf("p%d/src/m.txt", i)] = fmt.Sprintf("m%d\n", i)
	}
	w.r = trial.New(t, files)
	w.r.Bin = bin
	w.declare()
	return w
}

// declare writes the current declarations.
func (w *world) declare() {
	w.r.Write("grayloft.toml", fmt.Sprintf("schema = 1\n[repo]\nname = \"w\"\nprojects = [\"p*\"]\n[probe.p]\nrun = \"echo %d\"\nreads = []\n[setting.size]\nvalues = [\"small\", \"large\"]\ndefault = \"small\"\n", w.env/3))
	for i := range w.needs {
		var needs []string
		for _, j := range w.needs[i] {
			needs = append(needs, fmt.Sprintf("%q", fmt.Sprint("p", j)))
		}
		v := w.version[i]
		// Comments do not reach the generated files, so early cutoff is
		// frequent.
		w.r.Write(fmt.Sprintf("p%d/loft.toml", i), fmt.Sprintf(`[project]
needs = [%s]
offers = [%s]
[task.gen]
run = '''
mkdir -p out/gen
find in -type f | LC_ALL=C sort | while read -r f; do
  if [ -x "$f" ]; then x=x; else x=-; fi
  echo "$x $f" >> out/gen/files
  grep -v '^#' "$f" >> out/gen/text || true
done
find in -type l | LC_ALL=C sort | while read -r f; do echo "$f to $(readlink "$f")" >> out/gen/links; if [ -e "$f" ]; then cat "$f" >> out/gen/text; fi; done
if [ -e in/tool ]; then cp in/tool out/gen/tool; chmod +x out/gen/tool; fi
if [ -e in/empty ]; then mkdir -p out/gen/none; ln -s files out/gen/shortcut; fi
echo gen %d %%{setting.size} > out/gen/version
'''
reads = ["in/**"%s]
writes = ["out/gen/**"]
probes = ["p"]
[task.join]
run = '''
cat out/gen/* 2>/dev/null > out/join.txt || true
find src -type f | LC_ALL=C sort | tr '\n' '\0' | xargs -0 -r cat >> out/join.txt
for p in %s; do
  find ../$p/src -type f | LC_ALL=C sort | tr '\n' '\0' | xargs -0 -r cat >> out/join.txt
  cat ../$p/out/join.txt >> out/join.txt
done
echo join %d "$VALUE" >> out/join.txt
'''
reads = ["src/**", "needs:*"]
writes = ["out/join.txt"]
probes = []
env = ["VALUE=%d"]
after = ["gen", "join@needs:*"]
[task.check]
run = "test -s out/join.txt"
reads = []
writes = []
after = ["join"]
`, strings.Join(needs, ", "), w.offers[i], v["gen"], w.extra[i], w.all(i), v["join"], w.env))
	}
}

// all returns the projects that i needs, transitively, as a shell list.
func (w *world) all(i int) string {
	set := map[int]bool{}
	var walk func(int)
	walk = func(k int) {
		for _, j := range w.needs[k] {
			set[j] = true
			walk(j)
		}
	}
	walk(i)
	var out []string
	for j := range set {
		out = append(out, fmt.Sprint("p", j))
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}

func (w *world) pick(list []string) string { return list[w.rnd.IntN(len(list))] }

// files lists what is below a directory of the checkout.
func (w *world) files(dir string) []string {
	var out []string
	_ = filepath.WalkDir(w.r.Path(dir), func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(w.r.Dir, p)
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	return out
}

// edit makes one random change and describes it.
func (w *world) edit() string {
	i := w.rnd.IntN(len(w.needs))
	dir := fmt.Sprintf("p%d/%s", i, w.pick([]string{"in", "src"}))
	have := w.files(dir)
	outs := w.files(fmt.Sprintf("p%d/out", i))
	switch w.rnd.IntN(20) {
	case 0:
		name := dir + "/" + w.pick([]string{"n", "tool", "empty", "sub/x", "sub/deep/y z", "ü"}) + fmt.Sprint(w.rnd.IntN(3))
		w.r.Write(name, fmt.Sprintf("new %d\n", w.rnd.IntN(4)))
		return "added " + name
	case 1, 2:
		if len(have) > 0 {
			f := w.pick(have)
			w.r.Remove(f)
			w.r.Write(f, fmt.Sprintf("changed %d\n", w.rnd.IntN(4)))
			return "changed " + f
		}
	case 3, 4:
		if len(have) > 0 {
			f := w.pick(have)
			if info, err := os.Lstat(w.r.Path(f)); err == nil && info.Mode().IsRegular() {
				w.r.Append(f, "# a comment\n")
				return "commented " + f
			}
		}
	case 5:
		if len(have) > 1 || (len(have) == 1 && strings.HasSuffix(dir, "in")) {
			f := w.pick(have)
			w.r.Remove(f)
			return "removed " + f
		}
	case 6:
		if len(have) > 0 {
			f, to := w.pick(have), dir+"/"+w.pick([]string{"moved", "sub/moved"})
			os.MkdirAll(filepath.Dir(w.r.Path(to)), 0o755)
			if os.Rename(w.r.Path(f), w.r.Path(to)) == nil {
				return "renamed " + f + " to " + to
			}
		}
	case 7:
		if len(have) > 0 {
			f := w.pick(have)
			if info, err := os.Lstat(w.r.Path(f)); err == nil && info.Mode().IsRegular() {
				os.Chmod(w.r.Path(f), info.Mode()^0o111)
				return "chmod " + f
			}
		}
	case 8:
		link := fmt.Sprintf("p%d/in/link%d", i, w.rnd.IntN(2))
		os.Remove(w.r.Path(link))
		target := w.pick([]string{"a.txt", "n0", "tool1", "sub"})
		if target == "sub" && !w.r.Has(fmt.Sprintf("p%d/in/sub", i)) {
			target = "missing"
		}
		if target == "sub" {
			target = "a.txt" // cat does not read directories
		}
		os.Symlink(target, w.r.Path(link))
		return "linked " + link + " to " + target
	case 9:
		task := w.pick([]string{"gen", "join"})
		w.version[i][task] = w.rnd.IntN(3)
		w.declare()
		return fmt.Sprintf("another command for %s@p%d", task, i)
	case 10:
		w.env = w.rnd.IntN(6)
		w.declare()
		return "another environment"
	case 11:
		w.offers[i] = w.pick([]string{`"src/**"`, `"src/**", "in/a.txt"`, `"src/**", "!src/none"`})
		w.extra[i] = w.pick([]string{"", `, "src/m.txt"`})
		w.declare()
		return fmt.Sprintf("other reads and offers for p%d", i)
	case 12:
		w.r.Remove(fmt.Sprintf("p%d/out", i))
		return fmt.Sprintf("removed the outputs of p%d", i)
	case 13:
		if len(outs) > 0 {
			f := w.pick(outs)
			if info, err := os.Lstat(w.r.Path(f)); err == nil && info.Mode().IsRegular() {
				w.r.Append(f, "tampered\n")
				return "tampered with " + f
			}
		}
	case 14:
		w.r.Commit("as it is")
		return "committed"
	case 15:
		w.r.Write(fmt.Sprintf("p%d/out/gen/stray", i), "stray\n")
		return "left a file among outputs"
	default:
		return w.disguise(dir, have)
	}
	return "nothing"
}

// disguise makes a change that is easily missed: of the same size with the same times, of a
// directory as a whole, of a file into a directory, or by git.
func (w *world) disguise(dir string, have []string) string {
	switch w.rnd.IntN(4) {
	case 0:
		if len(have) > 0 {
			f := w.pick(have)
			info, err := os.Lstat(w.r.Path(f))
			if err != nil || !info.Mode().IsRegular() {
				return "nothing"
			}
			text := []byte(w.r.Read(f))
			slices.Reverse(text)
			w.must(os.WriteFile(w.r.Path(f), text, 0o644))
			w.must(os.Chtimes(w.r.Path(f), info.ModTime(), info.ModTime()))
			return "reversed " + f + ", with the same times"
		}
	case 1:
		if !w.r.Has(dir) {
			return "nothing"
		}
		old := w.r.Path(dir) + ".old"
		w.must(os.Rename(w.r.Path(dir), old))
		w.must(exec.Command("cp", "-a", old, w.r.Path(dir)).Run())
		w.must(os.RemoveAll(old))
		return "replaced " + dir + " by a copy"
	case 2:
		name := dir + "/turns"
		if w.r.Has(name + "/inside") {
			w.r.Remove(name)
			w.r.Write(name, "a file\n")
			return name + " is a file now"
		}
		w.r.Remove(name)
		w.r.Write(name+"/inside", "a file\n")
		return name + " is a directory now"
	case 3:
		w.r.Commit("all")
		before := strings.Fields(w.r.Git("rev-list", "--max-count=3", "HEAD", "--", "grayloft.toml"))
		to := w.pick(before)
		w.r.Git("checkout", "-q", "--detach", to)
		return "checked out " + to
	}
	return "nothing"
}

func (w *world) must(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

// compare runs, and compares with a clean run elsewhere.
func (w *world) compare(what string) {
	w.t.Helper()
	w.wander(what)
	if w.rnd.IntN(3) == 0 { // some tasks are then only dependencies, and their outputs are not transferred
		w.foreseen(what, "check")
	}
	rep := w.foreseen(what, "--pick", "all")
	for _, x := range rep.Tasks {
		switch x.Outcome {
		case "ran":
			w.ran++
		case "current", "restored", "cached":
			w.reused++
		case "failed":
			w.t.Errorf("%s: %s failed: %s", what, x.Task, x.Message)
		}
	}
	clean := &trial.Repo{T: w.t, Dir: filepath.Join(w.t.TempDir(), "clean"), Env: []string{"GRAYLOFT_CACHE=" + w.t.TempDir()}, Bin: w.r.Bin}
	w.copy(clean.Dir)
	clean.Git("init", "-q", "-b", "main")
	ref := clean.Run("--pick", "all", "--keep-going")
	if !ref.OK {
		w.t.Fatalf("%s: the clean run failed: %s", what, ref.Answer.Out)
	}
	for i := range w.needs {
		dir := fmt.Sprintf("p%d/out", i)
		got, want := snapshot(w.t, w.r.Path(dir)), snapshot(w.t, clean.Path(dir))
		if got != want {
			w.t.Errorf("%s: the outputs of p%d are\n%s\nin a clean run\n%s\noutcomes %v", what, i, got, want, rep.Outcomes())
		}
	}
	if len(rep.Ran()) == 1 {
		w.cut++
	}
	os.RemoveAll(filepath.Dir(clean.Dir))
}

// wander runs and plans some tasks by themselves, also with another setting: dependencies then
// leave something else than what their dependents were made from.
func (w *world) wander(what string) {
	w.t.Helper()
	for range w.rnd.IntN(4) {
		args := []string{fmt.Sprintf("%s@p%d", w.pick([]string{"gen", "join", "check"}), w.rnd.IntN(len(w.needs)))}
		if w.rnd.IntN(3) == 0 {
			args = append(args, "--set", "size=large")
		}
		switch w.rnd.IntN(6) {
		case 0, 1:
			w.r.Plan(args...)
		case 2:
			w.r.Run(append(args, "--no-reuse", "--keep-going")...)
		case 3:
			if name := fmt.Sprintf("p%d/%s", w.rnd.IntN(len(w.needs)), w.pick([]string{"src/m.txt", "in/a.txt"})); w.r.Has(name) {
				before := w.r.Read(name)
				w.r.Write(name, "for a while\n")
				w.repeat(args)
				w.r.Write(name, before)
				w.repeat(args)
			}
		default:
			w.foreseen(what, args...)
		}
	}
}

// repeat runs or plans tasks until what is current is likely to be recorded.
func (w *world) repeat(args []string) {
	w.r.Run(append(args, "--keep-going")...)
	for range w.rnd.IntN(3) {
		if w.rnd.IntN(2) == 0 {
			w.r.Plan(args...)
		} else {
			w.r.Run(append(args, "--keep-going")...)
		}
	}
}

// foreseen plans, runs, and compares the two: every certain prediction must
// come true, with its reason.
func (w *world) foreseen(what string, args ...string) trial.Report {
	w.t.Helper()
	plan := w.r.Plan(args...)
	rep := w.r.Run(append(args, "--keep-going")...)
	for _, x := range plan.Tasks {
		got := rep.Of(x.Task)
		moved := x.Outcome == "cached" && got.Outcome == "restored" && plan.Totals["may-run"] > 0
		switch {
		case x.Outcome == "may-run":
			w.open++
			continue
		case x.Outcome != got.Outcome && !moved:
			w.t.Errorf("%s: %v: %s was planned as %s %v and was %s %v", what, args, x.Task, x.Outcome, x.Detail, got.Outcome, got.Detail)
		case x.Outcome == "ran" && (*x.Reason != *got.Reason || fmt.Sprint(x.Detail) != fmt.Sprint(got.Detail)):
			w.t.Errorf("%s: %v: %s was planned to run for %s %v and ran for %s %v", what, args, x.Task, *x.Reason, x.Detail, *got.Reason, got.Detail)
		}
		w.sure++
	}
	return rep
}

// copy copies the checkout without outputs and state.
func (w *world) copy(to string) {
	err := filepath.WalkDir(w.r.Dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(w.r.Dir, p)
		target := filepath.Join(to, rel)
		switch {
		case d.IsDir() && (d.Name() == ".git" || d.Name() == ".grayloft" || d.Name() == "out"):
			return filepath.SkipDir
		case d.IsDir():
			return os.MkdirAll(target, 0o755)
		case d.Type()&fs.ModeSymlink != 0:
			link, err := os.Readlink(p)
			if err != nil {
				return err
			}
			return os.Symlink(link, target)
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		return os.WriteFile(target, data, info.Mode().Perm())
	})
	if err != nil {
		w.t.Fatal(err)
	}
}

// snapshot describes a tree: kinds, executable bits, link targets, contents.
func snapshot(t *testing.T, dir string) string {
	var b strings.Builder
	_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		rel, _ := filepath.Rel(dir, p)
		info, ierr := d.Info()
		if ierr != nil {
			t.Fatal(ierr)
		}
		switch {
		case d.IsDir():
			fmt.Fprintf(&b, "%s/\n", rel)
		case d.Type()&fs.ModeSymlink != 0:
			link, _ := os.Readlink(p)
			fmt.Fprintf(&b, "%s -> %s\n", rel, link)
		default:
			data, _ := os.ReadFile(p)
			fmt.Fprintf(&b, "%s %v %q\n", rel, info.Mode()&0o111 != 0, data)
		}
		return nil
	})
	return b.String()
}
