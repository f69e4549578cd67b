package oracle

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// files lists the regular files below a directory of the checkout.
func (w *world) files(dirs ...string) (out []string) {
	for _, dir := range dirs {
		_ = filepath.WalkDir(w.r.Path(dir), func(p string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				rel, _ := filepath.Rel(w.r.Dir, p)
				out = append(out, rel)
			}
			return nil
		})
	}
	return out
}

// inputs lists the files that tasks of a project read.
func (w *world) inputs(i int) []string {
	p := fmt.Sprintf("p%d/", i)
	list := w.files(p+"in", p+"src", p+"lib", p+"vendor", "shared")
	return slices.DeleteFunc(list, func(f string) bool { return filepath.Base(f) == "how" })
}

func (w *world) text() string { return fmt.Sprintf("%c\n", 'c'+rune(w.rnd.IntN(3))) }

const nothing = "nothing"

var usualSteps = []kind{
	{"edit", "usual", func(w *world, i int) string {
		list := w.inputs(i)
		if len(list) == 0 {
			return nothing
		}
		f := w.pick(list)
		w.write(f, w.text())
		return f
	}},
	{"command", "usual", func(w *world, i int) string {
		task := w.pick(tasks)
		w.version[i][task] = w.rnd.IntN(3)
		w.declare()
		return fmt.Sprintf("%s@p%d", task, i)
	}},
	{"value", "usual", func(w *world, _ int) string {
		w.value = w.rnd.IntN(3)
		w.declare()
		return fmt.Sprint(w.value)
	}},
	{"how", "usual", func(w *world, i int) string { return w.how(i, "within", "none", "fixed") }},
}

// how chooses what else gen writes.
func (w *world) how(i int, words ...string) string {
	file := fmt.Sprintf("p%d/in/how", i)
	var chosen []string
	for _, word := range words {
		if w.rnd.IntN(2) == 0 {
			chosen = append(chosen, word)
		}
	}
	w.write(file, strings.Join(chosen, " ")+"\n")
	return fmt.Sprintf("%s: %s", file, strings.Join(chosen, " "))
}

var fileSteps = []kind{
	{"add", "files", func(w *world, i int) string {
		names := []string{"n", "sub/x", "sub/deep/y z", "ü", "-x", "a\tb", "new\nline", ".hidden", "*.txt"}
		f := fmt.Sprintf("p%d/%s/%s", i, w.pick([]string{"in", "src", "lib", "vendor"}), w.pick(names))
		if info, err := os.Stat(w.r.Path(filepath.Dir(f))); err == nil && !info.IsDir() {
			return nothing
		}
		w.write(f, w.text())
		return fmt.Sprintf("%q", f)
	}},
	{"remove", "files", func(w *world, i int) string {
		list := w.inputs(i)
		if len(list) < 4 {
			return nothing
		}
		f := w.pick(list)
		w.r.Remove(f)
		return f
	}},
	{"swap", "files", func(w *world, i int) string {
		a, b := fmt.Sprintf("p%d/in/a.txt", i), fmt.Sprintf("p%d/in/b.txt", i)
		if !w.r.Has(a) || !w.r.Has(b) {
			return nothing
		}
		one, other := w.r.Read(a), w.r.Read(b)
		if w.rnd.IntN(2) == 0 {
			w.write(a, other)
			w.write(b, one)
			return "contents of " + a + " and " + b
		}
		w.must(os.Rename(w.r.Path(a), w.r.Path(a)+".x"))
		w.must(os.Rename(w.r.Path(b), w.r.Path(a)))
		w.must(os.Rename(w.r.Path(a)+".x", w.r.Path(b)))
		return "names of " + a + " and " + b
	}},
	{"disguise", "files", func(w *world, i int) string {
		list := w.inputs(i)
		if len(list) == 0 {
			return nothing
		}
		f := w.pick(list)
		info, err := os.Stat(w.r.Path(f))
		w.must(err)
		w.must(os.WriteFile(w.r.Path(f), []byte(w.text()), 0o644))
		w.must(os.Chtimes(w.r.Path(f), info.ModTime(), info.ModTime()))
		return f + ", with the same times"
	}},
	{"copied", "files", func(w *world, i int) string {
		dir := w.r.Path(fmt.Sprintf("p%d/%s", i, w.pick([]string{"in", "src", "vendor"})))
		if _, err := os.Stat(dir); err != nil {
			return nothing
		}
		w.must(os.Rename(dir, dir+".old"))
		w.must(exec.Command("cp", "-a", dir+".old", dir).Run())
		w.must(os.RemoveAll(dir + ".old"))
		return dir
	}},
	{"mode", "files", func(w *world, i int) string {
		list := w.inputs(i)
		if len(list) == 0 {
			return nothing
		}
		f, mode := w.pick(list), []fs.FileMode{0o644, 0o755, 0o600, 0o700}[w.rnd.IntN(4)]
		w.must(os.Chmod(w.r.Path(f), mode))
		return fmt.Sprintf("%s is %o", f, mode)
	}},
	{"link", "files", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/%s/link", i, w.pick([]string{"in", "lib", "vendor"}))
		if !w.r.Has(filepath.Dir(f)) {
			return nothing
		}
		w.r.Remove(f)
		to := w.pick([]string{"a.txt", "b.txt", "l.txt", "v.txt", "missing", "../src/m.txt", "/etc/hostname", w.at("outside/o"), ""})
		if to == "" {
			return "removed " + f
		}
		w.must(os.WriteFile(w.at("outside/o"), []byte(w.text()), 0o644))
		w.must(os.Symlink(to, w.r.Path(f)))
		return f + " to " + to
	}},
	{"turn", "files", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/%s/turns", i, w.pick([]string{"in", "src", "vendor"}))
		if w.r.Has(f + "/inside") {
			w.r.Remove(f)
			w.write(f, "a file\n")
			return f + " is a file"
		}
		w.r.Remove(f)
		w.write(f+"/inside", "a file\n")
		return f + " is a directory"
	}},
	{"hardlink", "files", func(w *world, i int) string {
		list := w.inputs(i)
		if len(list) == 0 {
			return nothing
		}
		f := w.pick(list)
		name := w.at(fmt.Sprintf("outside/h%d", w.rnd.Uint32()))
		w.must(os.Link(w.r.Path(f), name))
		if w.rnd.IntN(2) == 0 {
			w.must(os.WriteFile(name, []byte(w.text()), 0o644))
			return f + " was written under another name"
		}
		return f + " has another name"
	}},
}

var gitSteps = []kind{
	{"commit", "git", func(w *world, _ int) string {
		w.r.Commit("as it is")
		return "all"
	}},
	{"track", "git", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/%s", i, w.pick([]string{"dist/index.html", "dist/page.txt", "out/gen/fixed"}))
		if info, err := os.Lstat(w.r.Path(filepath.Dir(f))); err == nil && !info.IsDir() {
			return nothing
		}
		w.write(f, w.text())
		w.r.Git("add", "-f", f)
		return f
	}},
	{"untrack", "git", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/%s", i, w.pick([]string{"dist/index.html", "dist/page.txt", "out/gen/fixed"}))
		w.r.Git("rm", "-q", "--cached", "--ignore-unmatch", f)
		w.r.Remove(f)
		return f
	}},
	{"tracked", "git", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/%s", i, w.pick([]string{"dist/index.html", "dist/page.txt", "out/gen/fixed"}))
		if !w.r.Has(f) || !w.trackedOutputs()[f] {
			return nothing
		}
		if w.rnd.IntN(4) == 0 {
			w.r.Remove(f)
			return "removed " + f
		}
		w.write(f, w.text())
		return "edited " + f
	}},
	{"index", "git", func(w *world, i int) string { // whether pack writes the tracked page
		f := fmt.Sprintf("p%d/lib/index", i)
		if w.r.Has(f) {
			w.r.Remove(f)
			return "removed " + f
		}
		w.write(f, w.text())
		return "wrote " + f
	}},
	{"ignored", "git", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/vendor/%s", i, w.pick([]string{"v.txt", "n", "sub/n"}))
		if w.r.Has(f) && w.rnd.IntN(3) == 0 {
			w.r.Remove(f)
			return "removed " + f
		}
		if info, err := os.Lstat(w.r.Path(filepath.Dir(f))); err == nil && !info.IsDir() {
			return nothing
		}
		w.write(f, w.text())
		return f
	}},
	{"rules", "git", func(w *world, _ int) string {
		rules := w.pick([]string{"out/\nvendor/\n", "out/\n", "out/\nvendor/\nin/n\n", "out/\nvendor/\nsub/\n"})
		w.write(".gitignore", rules)
		return fmt.Sprintf("%q", rules)
	}},
	{"unseen", "git", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/in/a.txt", i)
		if !w.r.Has(f) || w.r.Git("ls-files", f) == "" {
			return nothing
		}
		w.r.Git("update-index", w.pick([]string{"--assume-unchanged", "--skip-worktree", "--no-assume-unchanged", "--no-skip-worktree"}), f)
		w.write(f, w.text())
		return f
	}},
}

var outputSteps = []kind{
	{"unkeepable", "outputs", func(w *world, i int) string {
		return w.how(i, w.pick([]string{"abs", "away", "pipe", "fold", "git"}), "within")
	}},
	{"unusual", "outputs", func(w *world, i int) string {
		return w.how(i, w.pick([]string{"shortcut", "hollow", "real", "private", "none", "fails"}), "shortcut")
	}},
	{"removed", "outputs", func(w *world, i int) string {
		dir := fmt.Sprintf("p%d/%s", i, w.pick([]string{"out", "out/gen"}))
		if w.isDir(dir) && len(w.trackedBelow(dir)) == 0 {
			w.r.Remove(dir)
		}
		return dir
	}},
	{"tampered", "outputs", func(w *world, i int) string {
		list := w.untracked(w.files(fmt.Sprintf("p%d/out", i)))
		if len(list) == 0 {
			return nothing
		}
		f := w.pick(list)
		if w.rnd.IntN(3) == 0 {
			w.must(os.Chmod(w.r.Path(f), 0o640))
			return "mode of " + f
		}
		w.write(f, "tampered\n")
		return f
	}},
	{"stray", "outputs", func(w *world, i int) string {
		f := fmt.Sprintf("p%d/out/gen/stray", i)
		if !w.isDir(filepath.Dir(f)) {
			return nothing
		}
		w.write(f, "stray\n")
		return f
	}},
	{"obstacle", "outputs", func(w *world, i int) string {
		dir := fmt.Sprintf("p%d/dist", i)
		if len(w.trackedBelow(dir)) > 0 {
			return nothing
		}
		w.r.Remove(dir)
		w.must(os.MkdirAll(w.at("outside/dist"), 0o755))
		w.must(os.Symlink(w.at("outside/dist"), w.r.Path(dir)))
		w.away[i] = true
		return dir + " leads out"
	}},
}

func (w *world) isDir(dir string) bool {
	info, err := os.Lstat(w.r.Path(dir))
	return err == nil && info.IsDir()
}

func (w *world) trackedBelow(dir string) (out []string) {
	for f := range w.trackedOutputs() {
		if strings.HasPrefix(f, dir+"/") {
			out = append(out, f)
		}
	}
	return out
}

func (w *world) untracked(list []string) []string {
	tracked := w.trackedOutputs()
	return slices.DeleteFunc(list, func(f string) bool { return tracked[f] })
}

var stateSteps = []kind{
	{"lost", "state", func(w *world, _ int) string { return w.damage(w.r.Path(".grayloft")) }},
	{"cache", "state", func(w *world, _ int) string { return w.damage(w.at("cache")) }},
	{"saved", "state", func(w *world, _ int) string { // a file of another day comes back
		list := w.stateFiles(w.r.Path(".grayloft"))
		if len(list) == 0 {
			return nothing
		}
		f := w.pick(list)
		text, err := os.ReadFile(f)
		w.must(err)
		if old, ok := w.aside[f]; ok {
			w.must(os.WriteFile(f, []byte(old), 0o644))
			delete(w.aside, f)
			return "put back an old " + filepath.Base(f)
		}
		w.aside[f] = string(text)
		return "kept " + filepath.Base(f)
	}},
}

func (w *world) stateFiles(dir string) (out []string) {
	_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && slices.Contains([]string{"locks", "displaced", "aside", "running"}, d.Name()) {
			return filepath.SkipDir
		}
		if err == nil && d.Type().IsRegular() && d.Name() != ".gitignore" {
			out = append(out, p)
		}
		return nil
	})
	return out
}

func (w *world) damage(dir string) string {
	list := w.stateFiles(dir)
	if len(list) == 0 {
		return nothing
	}
	f := w.pick(list)
	rel, _ := filepath.Rel(dir, f)
	text, err := os.ReadFile(f)
	w.must(err)
	switch w.rnd.IntN(3) {
	case 0:
		w.must(os.Remove(f))
		return "lost " + rel
	case 1:
		w.must(os.WriteFile(f, text[:len(text)/2], 0o644))
		return "cut " + rel
	}
	if len(text) > 0 {
		text[w.rnd.IntN(len(text))] ^= 1 << w.rnd.IntN(8)
	}
	w.must(os.WriteFile(f, text, 0o644))
	return "a bit of " + rel
}

var probeSteps = []kind{
	{"tool", "probes", func(w *world, _ int) string {
		v := w.rnd.IntN(3)
		w.tool(v)
		return fmt.Sprint(v)
	}},
	{"tool-disguised", "probes", func(w *world, _ int) string {
		file, v := w.at("tools/bin/mill"), w.rnd.IntN(3)
		info, err := os.Stat(file)
		w.must(err)
		w.tool(v)
		w.must(os.Chtimes(file, info.ModTime(), info.ModTime()))
		return fmt.Sprint(v)
	}},
	{"configuration", "probes", func(w *world, _ int) string {
		file := w.at("home/.millrc")
		if w.rnd.IntN(3) == 0 {
			_ = os.Remove(file)
			return "removed"
		}
		w.must(os.WriteFile(file, []byte(w.text()), 0o644))
		return "edited"
	}},
}

var optionSteps = []kind{
	{"no-reuse", "options", func(w *world, i int) string {
		task := fmt.Sprintf("%s@p%d", w.pick(tasks), i)
		w.r.Run(task, "--no-reuse", "--keep-going")
		return task
	}},
	{"setting", "options", func(w *world, i int) string {
		task := fmt.Sprintf("%s@p%d", w.pick(tasks), i)
		w.r.Run(task, "--set", "size=large", "--keep-going")
		return task
	}},
	{"for-a-while", "options", func(w *world, i int) string {
		list := w.inputs(i)
		if len(list) == 0 {
			return nothing
		}
		f, task := w.pick(list), fmt.Sprintf("%s@p%d", w.pick(tasks), i)
		before := w.r.Read(f)
		w.write(f, "for a while\n")
		w.r.Run(task, "--keep-going")
		w.write(f, before)
		w.r.Run(task, "--keep-going")
		return f + ", " + task
	}},
	{"never", "options", func(w *world, i int) string {
		w.never[i] = !w.never[i]
		w.declare()
		return fmt.Sprintf("gen@p%d: %v", i, w.never[i])
	}},
	{"isolation", "options", func(w *world, i int) string {
		w.sealed[i] = !w.sealed[i]
		w.declare()
		return fmt.Sprintf("pack@p%d: %v", i, w.sealed[i])
	}},
	{"offers", "options", func(w *world, i int) string {
		w.offers[i] = w.pick([]string{`"src/**"`, `"src/**", "in/a.txt"`, `"src/**", "!src/none"`})
		w.declare()
		return w.offers[i]
	}},
}
