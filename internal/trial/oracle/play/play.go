// Package play is what the tasks of random repositories do: each writes a text that says what it
// read. It runs as a program below the client, and in the evaluator's own process, so that the two
// can be compared. It knows nothing of reuse.
package play

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Call is one execution of a task.
type Call struct {
	Project string   // its directory, from the root
	Task    string   // gen, pack, lint, seen, join
	Version string   // of its command
	Size    string   // a setting
	Value   string   // a variable
	Needs   []string // directories of all projects that the project needs
	Tools   string   // directory outside the repository
	Home    string
	Hooks   string // directory with scripts that are run at points of a task; "": none
}

// Arguments returns the call as arguments of the program. Words that the client fills in stay as
// they are.
func (c Call) Arguments() []string {
	return append([]string{c.Project, c.Task, c.Version, c.Size, c.Tools}, c.Needs...)
}

// FromArguments carries out the call of a process that runs in the directory of the project.
func FromArguments(dir string, args []string) error {
	if len(args) < 5 {
		return errors.New("act PROJECT TASK VERSION SIZE TOOLS NEEDS…")
	}
	root, ok := strings.CutSuffix(dir, "/"+args[0])
	if !ok {
		return fmt.Errorf("%s is not the directory of %s", dir, args[0])
	}
	return Call{
		Project: args[0], Task: args[1], Version: args[2], Size: args[3], Tools: args[4], Needs: args[5:],
		Value: os.Getenv("VALUE"), Home: os.Getenv("HOME"), Hooks: os.Getenv("ORACLE"),
	}.Run(root)
}

// Run carries out the call in a checkout.
func (c Call) Run(root string) error {
	a := &act{Call: c, root: root}
	a.hook("start")
	switch c.Task {
	case "gen":
		a.gen()
	case "pack":
		a.pack()
	case "lint":
		a.show("dist")
		a.hook("mid")
		a.write("out/lint.txt", 0o644)
	case "seen":
		a.show("vendor")
		a.show("../shared")
		a.hook("mid")
		a.write("out/seen.txt", 0o644)
	case "join":
		a.join()
	default:
		a.fail(fmt.Errorf("there is no task %s", c.Task))
	}
	a.hook("end")
	return a.err
}

type act struct {
	Call
	root string
	text strings.Builder
	err  error
}

func (a *act) fail(err error) {
	if a.err == nil {
		a.err = err
	}
}

func (a *act) path(rel string) string { return filepath.Join(a.root, a.Project, rel) }

// hook runs a script, once, if there is one for this point of the task.
func (a *act) hook(point string) {
	if a.Hooks == "" {
		return
	}
	script := filepath.Join(a.Hooks, a.Project+"."+a.Task+"."+point)
	if os.Rename(script, script+".taken") != nil {
		return
	}
	cmd := exec.Command("sh", script+".taken")
	cmd.Dir = a.root
	if out, err := cmd.CombinedOutput(); err != nil {
		_ = os.WriteFile(script+".failed", fmt.Appendf(out, "%v\n", err), 0o644)
	}
}

// show writes down everything below a directory.
func (a *act) show(dir string) {
	for _, line := range Lines(a.path(dir), dir) {
		a.text.WriteString(line)
	}
}

// Lines says what is at and below a path: kind, permissions that count, target, and contents, also
// those that a link leads to.
func Lines(full, name string) (out []string) {
	info, err := os.Lstat(full)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		out = append(out, fmt.Sprintf("%s: %v\n", name, err))
	case info.IsDir():
		list, err := os.ReadDir(full)
		if err != nil {
			return append(out, fmt.Sprintf("%s: %v\n", name, err))
		}
		for _, e := range list {
			out = append(out, Lines(filepath.Join(full, e.Name()), name+"/"+e.Name())...)
		}
	case info.Mode()&fs.ModeSymlink != 0:
		target, _ := os.Readlink(full)
		text := "-"
		if to, err := os.Stat(full); err == nil && to.Mode().IsRegular() {
			b, _ := os.ReadFile(full)
			text = fmt.Sprintf("%q", b)
		}
		out = append(out, fmt.Sprintf("%s to %s: %s\n", name, target, text))
	case info.Mode().IsRegular():
		b, err := os.ReadFile(full)
		if err != nil {
			return append(out, fmt.Sprintf("%s: %v\n", name, err))
		}
		out = append(out, fmt.Sprintf("%s x=%v private=%v %q\n", name, info.Mode()&0o100 != 0, info.Mode()&0o004 == 0, b))
	default:
		out = append(out, name+" is special\n")
	}
	return out
}

func (a *act) write(rel string, mode fs.FileMode) {
	full := a.path(rel)
	a.fail(os.MkdirAll(filepath.Dir(full), 0o755))
	a.fail(os.WriteFile(full, []byte(a.text.String()), mode))
	a.fail(os.Chmod(full, mode))
}

// put writes a file with a text of its own.
func (a *act) put(rel, text string, mode fs.FileMode) {
	other := act{Call: a.Call, root: a.root}
	other.text.WriteString(text)
	other.write(rel, mode)
	a.fail(other.err)
}

func (a *act) read(full string) string {
	b, _ := os.ReadFile(full) // absent is empty here
	return string(b)
}

// gen writes several files; in/how names further ones, and ways to make outputs unusual.
func (a *act) gen() {
	a.show("in")
	first, how := a.read(a.path("in/a.txt")), strings.Fields(a.read(a.path("in/how")))
	ground := first + a.read(filepath.Join(a.Tools, "bin/mill")) + a.read(filepath.Join(a.Home, ".millrc"))
	a.hook("mid")
	if info, err := os.Lstat(a.path("out/gen")); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		a.fail(os.Remove(a.path("out/gen")))
	}
	if slices.Contains(how, "fails") {
		a.fail(errors.New("fails"))
		return
	}
	if slices.Contains(how, "real") {
		a.fail(os.RemoveAll(a.path("out/gen")))
		a.fail(os.RemoveAll(a.path("out/real")))
		a.fail(os.MkdirAll(a.path("out/real"), 0o755))
		a.fail(os.Symlink("real", a.path("out/gen")))
	}
	a.write("out/gen/text", 0o644)
	a.put("out/gen/ground", ground, 0o644)
	a.put("out/gen/version", a.Version+" "+a.Size+"\n", 0o644)
	for _, word := range how {
		a.unusual(word, first)
	}
}

func (a *act) unusual(word, first string) {
	switch word {
	case "abs":
		a.fail(os.Symlink("/etc/hostname", a.path("out/gen/abs")))
	case "away":
		a.fail(os.Symlink("../../../../away", a.path("out/gen/away")))
	case "pipe":
		a.fail(syscall.Mkfifo(a.path("out/gen/pipe"), 0o644))
	case "fold":
		a.put("out/gen/N", first, 0o644)
		a.put("out/gen/n", first+first, 0o644)
	case "private":
		a.put("out/gen/private", first, 0o600)
		a.put("out/gen/tool", first, 0o700)
	case "none":
		a.fail(os.MkdirAll(a.path("out/gen/none"), 0o755))
	case "hollow":
		a.fail(os.RemoveAll(a.path("out/gen")))
		a.fail(os.MkdirAll(a.path("out/gen"), 0o755))
	case "git":
		a.put("out/gen/sub/.git/config", first, 0o644)
		a.put("out/gen/sub/x", first, 0o644)
	case "shortcut":
		a.fail(os.Symlink("../../in/a.txt", a.path("out/gen/shortcut")))
	case "within":
		a.fail(os.Symlink("text", a.path("out/gen/within")))
	case "fixed":
		a.put("out/gen/fixed", first, 0o644)
	}
}

// pack shows what gen made, and sometimes writes a page.
func (a *act) pack() {
	a.show("lib")
	index := a.read(a.path("lib/index"))
	a.showOutputs("out/gen")
	a.hook("mid")
	a.write("dist/pack.txt", 0o644)
	if index != "" {
		a.put("dist/index.html", index, 0o644)
	}
}

// showOutputs is show, with empty directories.
func (a *act) showOutputs(dir string) {
	a.show(dir)
	_ = filepath.WalkDir(a.path(dir), func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			if list, err := os.ReadDir(p); err == nil && len(list) == 0 {
				rel, _ := filepath.Rel(a.path("."), p)
				fmt.Fprintf(&a.text, "%s is empty\n", rel)
			}
		}
		return nil
	})
}

func (a *act) join() {
	a.showOutputs("out/gen")
	a.show("src")
	for _, p := range a.Needs {
		up := strings.Repeat("../", strings.Count(a.Project, "/")+1)
		a.show(up + p + "/src")
		a.show(up + p + "/out/join.txt")
	}
	fmt.Fprintf(&a.text, "join %s %s\n", a.Version, a.Value)
	a.hook("mid")
	a.write("out/join.txt", 0o644)
}
