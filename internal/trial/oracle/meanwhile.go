package oracle

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// meanwhileSteps are edits that happen while a task runs: the task itself starts them, at points that
// the driver chose. What the run leaves then proves nothing, but nothing of it may be reused.
var meanwhileSteps = []kind{
	{"changed-back", "meanwhile", func(w *world, i int) string {
		task := w.pick(tasks)
		list := w.readBy(i, task)
		if len(list) == 0 {
			return nothing
		}
		f := quote(w.pick(list))
		w.hook(i, task, "start", fmt.Sprintf("mv %[1]s \"$OUTSIDE/kept\" && echo meanwhile > %[1]s", f))
		w.hook(i, task, "mid", fmt.Sprintf("rm -f %[1]s && mv \"$OUTSIDE/kept\" %[1]s", f))
		return w.runHooked(i, task, f)
	}},
	{"rewritten-back", "meanwhile", func(w *world, i int) string {
		task := w.pick(tasks)
		list := w.readBy(i, task)
		if len(list) == 0 {
			return nothing
		}
		f := quote(w.pick(list))
		w.hook(i, task, "start", fmt.Sprintf("cp -p %[1]s \"$OUTSIDE/kept\" && echo meanwhile > %[1]s", f))
		w.hook(i, task, "mid", fmt.Sprintf("cat \"$OUTSIDE/kept\" > %[1]s && touch -r \"$OUTSIDE/kept\" %[1]s", f))
		return w.runHooked(i, task, f)
	}},
	{"directories-swapped", "meanwhile", func(w *world, i int) string {
		task := w.pick([]string{"gen", "pack", "seen", "join"})
		dir := fmt.Sprintf("p%d/%s", i, map[string]string{"gen": "in", "pack": "lib", "seen": "vendor", "join": "src"}[task])
		if task == "join" && len(w.allNeeds(i)) > 0 {
			dir = fmt.Sprintf("p%d/src", w.allNeeds(i)[0])
		}
		if !w.isDir(dir) {
			return nothing
		}
		w.hook(i, task, "start", fmt.Sprintf("mv %[1]s %[1]s.away && cp -a %[1]s.away %[1]s && echo meanwhile > %[1]s/meanwhile", dir))
		w.hook(i, task, "mid", fmt.Sprintf("rm -rf %[1]s && mv %[1]s.away %[1]s", dir))
		return w.runHooked(i, task, dir)
	}},
	{"appears", "meanwhile", func(w *world, i int) string {
		task := w.pick([]string{"gen", "pack", "seen", "join"})
		dir := fmt.Sprintf("p%d/%s", i, map[string]string{"gen": "in", "pack": "lib", "seen": "vendor", "join": "src"}[task])
		if !w.isDir(dir) {
			return nothing
		}
		w.hook(i, task, "start", fmt.Sprintf("echo meanwhile > %s/appears", dir))
		if w.rnd.IntN(2) == 0 {
			w.hook(i, task, "mid", fmt.Sprintf("rm %s/appears", dir))
			return w.runHooked(i, task, dir+", and vanishes")
		}
		said := w.runHooked(i, task, dir)
		w.r.Remove(dir + "/appears")
		return said
	}},
	{"upstream-edited", "meanwhile", func(w *world, i int) string {
		task := w.pick([]string{"pack", "join", "lint"})
		f := fmt.Sprintf("p%d/out/gen/text", i)
		if task == "lint" {
			f = fmt.Sprintf("p%d/dist/pack.txt", i)
		}
		back := fmt.Sprintf("[ -e \"$OUTSIDE/kept\" ] && rm -f %[1]s && mv \"$OUTSIDE/kept\" %[1]s", f)
		w.hook(i, task, "start", fmt.Sprintf("cp -p %[1]s \"$OUTSIDE/kept\" && rm %[1]s && echo meanwhile > %[1]s", f))
		w.hook(i, task, "mid", back)
		return w.runHooked(i, task, f)
	}},
	{"upstream-run", "meanwhile", func(w *world, i int) string {
		task := w.pick([]string{"pack", "join"})
		args := w.pick([]string{"--set size=large", "--set size=large --no-reuse"})
		w.hook(i, task, "start", fmt.Sprintf(
			"env -u GRAYLOFT_TASK_MARK \"$CLIENT\" run gen@p%d %s >/dev/null 2>&1 </dev/null & n=0\n"+
				"while kill -0 $! 2>/dev/null && [ $n -lt 15 ]; do sleep 0.02; n=$((n+1)); done\nkill -9 $! 2>/dev/null || true", i, args))
		return w.runHooked(i, task, args)
	}},
	{"tool-switched", "meanwhile", func(w *world, i int) string {
		before := w.at("tools/bin/mill")
		other := w.rnd.IntN(3)
		text := fmt.Sprintf("#!/bin/sh\necho mill %d\ncat \"$HOME/.millrc\" 2>/dev/null || true\n", other)
		w.must(os.WriteFile(w.at("outside/mill"), []byte(text), 0o755))
		w.hook(i, "gen", "start", fmt.Sprintf(
			"cp -p %[1]s \"$OUTSIDE/mill.kept\" && cp \"$OUTSIDE/mill\" %[1]s.new && mv %[1]s.new %[1]s", before))
		if w.rnd.IntN(2) == 0 {
			w.hook(i, "gen", "mid", fmt.Sprintf("mv \"$OUTSIDE/mill.kept\" %s", before))
			return w.runHooked(i, "gen", "and back")
		}
		said := w.runHooked(i, "gen", "for the time of the run")
		if w.rnd.IntN(2) == 0 {
			_ = os.Rename(w.at("outside/mill.kept"), before)
			return said + ", then back"
		}
		return said
	}},
	{"branch", "meanwhile", func(w *world, i int) string {
		w.r.Commit("all")
		list := strings.Fields(w.r.Git("rev-list", "--max-count=6", "HEAD", "--", "grayloft.toml", "."))
		to, here := w.pick(list), w.r.Git("rev-parse", "HEAD")
		task := w.pick([]string{"gen", "join", "seen"})
		w.hook(i, task, "start", "git checkout -q --detach "+to)
		w.hook(i, task, "mid", "git checkout -q --detach "+here)
		said := w.runHooked(i, task, to)
		w.r.Git("checkout", "-q", "--detach", here)
		return said
	}},
	{"killed", "meanwhile", func(w *world, i int) string {
		task, point := w.pick(tasks), w.pick([]string{"start", "mid", "end"})
		w.hook(i, task, point, "while [ ! -e \"$OUTSIDE/client\" ]; do sleep 0.005; done; kill -9 $(cat \"$OUTSIDE/client\")")
		w.save()
		cmd := w.r.Command("run", fmt.Sprintf("%s@p%d", task, i), "--no-reuse", "--keep-going")
		_ = os.Remove(w.at("outside/client"))
		w.must(cmd.Start())
		w.must(os.WriteFile(w.at("outside/client.new"), fmt.Appendf(nil, "%d", cmd.Process.Pid), 0o644))
		w.must(os.Rename(w.at("outside/client.new"), w.at("outside/client")))
		_ = cmd.Wait()
		w.unhook()
		return fmt.Sprintf("at the %s of %s@p%d", point, task, i)
	}},
}

// readBy lists files that a task reads.
func (w *world) readBy(i int, task string) []string {
	p := fmt.Sprintf("p%d/", i)
	switch task {
	case "gen":
		return w.files(p + "in")
	case "pack":
		return w.files(p + "lib")
	case "seen":
		return w.files(p+"vendor", "shared")
	case "join":
		dirs := []string{p + "src"}
		for _, j := range w.allNeeds(i) {
			dirs = append(dirs, fmt.Sprintf("p%d/src", j))
		}
		return w.files(dirs...)
	}
	return nil
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// hook makes a task run a script at a point, the next time it runs there.
func (w *world) hook(i int, task, point, script string) {
	text := fmt.Sprintf("cd %s\nOUTSIDE=%s\nCLIENT=%s\n%s\n", quote(w.r.Dir), quote(w.at("outside")), quote(w.r.Bin), script)
	w.must(os.WriteFile(filepath.Join(w.at("hooks"), fmt.Sprintf("p%d.%s.%s", i, task, point)), []byte(text), 0o644))
}

func (w *world) unhook() {
	w.must(os.RemoveAll(w.at("hooks")))
	w.must(os.MkdirAll(w.at("hooks"), 0o755))
}

// runHooked runs a task so that it starts its hooks, mostly because of an edit.
func (w *world) runHooked(i int, task, about string) string {
	addr := fmt.Sprintf("%s@p%d", task, i)
	w.version[i][task]++
	if w.rnd.IntN(2) == 0 {
		w.version[i][task] = 3 + w.rnd.IntN(3)
	}
	w.declare()
	w.r.Run(addr, "--keep-going")
	if w.sealed[i] && task == "pack" || w.far == nil && w.rnd.IntN(2) == 0 {
		w.r.Plan(addr)
	}
	w.unhook()
	_ = os.Remove(w.at("outside/kept"))
	return addr + ": " + about
}
