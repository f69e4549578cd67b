package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

func main() {
	dir := flag.String(
		"dir",
		filepath.Join(os.TempDir(), "grayloft-bench"),
		"directory of the generated repositories; they are kept between calls",
	)
	bin := flag.String("bin", "bin/grayloft", "the client to measure")
	out := flag.String("json", "bench.json", "file for the table as JSON")
	rounds := flag.Int("rounds", 5, "number of rounds in which ours and the baseline alternate")
	only := flag.String("only", "", "measure only rows whose name contains this, or one of several texts with | between them")
	keep := flag.Bool("keep", false, "do not delete the files of earlier rounds at the end: it makes the next minutes on this disk slow")
	flag.Parse()
	if err := run(*dir, *bin, *out, *rounds, *only, *keep); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// makeRoom makes the directory of files from earlier rounds. It deletes those of earlier calls if
// the disk has few inodes left.
func makeRoom(gone string) error {
	if err := os.MkdirAll(gone, 0o755); err != nil {
		return err
	}
	var disk unix.Statfs_t
	if err := unix.Statfs(gone, &disk); err != nil || disk.Files == 0 || disk.Ffree > disk.Files/3 { // some count none
		return err
	}
	fmt.Fprintln(os.Stderr, "deleting the files of earlier calls, because the disk has few inodes left: the first rows will be slow")
	if err := os.RemoveAll(gone); err != nil {
		return err
	}
	return os.MkdirAll(gone, 0o755)
}

func run(dir, bin, out string, rounds int, only string, keep bool) error {
	client, err := filepath.Abs(bin)
	if err != nil {
		return err
	}
	b := &bench{dir: dir, client: client, rounds: rounds}
	gone := filepath.Join(dir, "gone")
	if err := makeRoom(gone); err != nil {
		return err
	}
	if !keep {
		defer os.RemoveAll(gone)
	}
	if err := b.repositories(); err != nil {
		return err
	}
	var rows []result
	all := b.rows()
	served := append((&fleet{b: b}).rows(), (&joined{b: b}).rows()...)
	if only == "" || slices.ContainsFunc(served, func(r row) bool { return isWanted(r.name, only) }) {
		f, err := newFleet(b)
		if err != nil {
			return fmt.Errorf("a service to measure: %w", err)
		}
		defer f.stop()
		j, err := newJoined(b, f)
		if err != nil {
			return fmt.Errorf("a run of several machines to measure: %w", err)
		}
		all = append(append(all, f.rows()...), j.rows()...)
	}
	records, stop, err := b.records(only)
	if err != nil {
		return fmt.Errorf("a service with records to measure: %w", err)
	}
	defer stop()
	all = append(all, records...)
	fmt.Printf("%-86s %10s %10s %7s %7s %8s\n", "name", "ours", "baseline", "ratio", "goal", "noise")
	for _, r := range all {
		if !isWanted(r.name, only) {
			continue
		}
		measure := b.measureQuietly
		if r.simulate != nil {
			measure = simulated
		}
		if r.memory != nil {
			measure = b.measureMemory
		}
		res, err := measure(r)
		if err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
		fmt.Printf(
			"%-86s %10s %10s %7.2f %7s %6.0f %%\n",
			res.Name,
			short(res.Ours),
			short(res.Baseline),
			res.Ratio,
			goalText(res),
			100*res.Noise,
		)
		rows = append(rows, res)
	}
	data, err := json.MarshalIndent(rows, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(out, append(data, '\n'), 0o644)
}

// isWanted tells whether a row is to be measured.
func isWanted(name, only string) bool {
	return slices.ContainsFunc(strings.Split(only, "|"), func(part string) bool { return strings.Contains(name, part) })
}

// simulated is the result of a row that takes no time.
func simulated(r row) (result, error) {
	s := r.simulate()
	return result{Name: r.name, Goal: r.goal, Ours: s.Makespan, Baseline: s.Bound, Ratio: s.Makespan / s.Bound}, nil
}

func short(s float64) string {
	if s == 0 {
		return "–"
	}
	return fmt.Sprintf("%.3f s", s)
}

func goalText(r result) string {
	mark := ""
	if r.Goal == 0 {
		return "–"
	}
	if r.Ratio > r.Goal {
		mark = " ✕"
	}
	return fmt.Sprintf("%.2f%s", r.Goal, mark)
}

// repositories generates the repositories that do not exist yet.
func (b *bench) repositories() error {
	for name, s := range map[string]shape{"large": large, "tenth": {projects: large.projects / 10, files: large.files / 10, bytes: large.bytes / 10}} {
		at := filepath.Join(b.dir, name)
		if _, err := os.Stat(filepath.Join(at, ".git", "HEAD")); err == nil {
			continue
		}
		fmt.Fprintf(os.Stderr, "generating %d projects with %d files in %s\n", s.projects, s.files, at)
		if err := generate(at, s); err != nil {
			return err
		}
	}
	if err := b.trivial(2000); err != nil {
		return err
	}
	if at := filepath.Join(b.dir, "sources"); !exists(filepath.Join(at, ".git", "HEAD")) {
		if err := sources(at); err != nil {
			return err
		}
	}
	if err := b.bulky("small", 500, 25<<20); err != nil {
		return err
	}
	if err := b.bulky("tiny", 100_000, 200<<20); err != nil {
		return err
	}
	return b.bulky("bulky", 10_000, 500<<20)
}

func exists(file string) bool { _, err := os.Stat(file); return err == nil }

// trivial is a repository of tasks that do nothing and write nothing.
func (b *bench) trivial(tasks int) error {
	at := filepath.Join(b.dir, "trivial")
	if _, err := os.Stat(filepath.Join(at, ".git", "HEAD")); err == nil {
		return nil
	}
	var t strings.Builder
	t.WriteString("schema = 1\n[repo]\nname = \"trivial\"\n")
	for i := range tasks {
		fmt.Fprintf(&t, "[task.t%04d]\nrun = \"true\"\nreads = []\nreuse = \"never\"\n", i)
	}
	if err := write(filepath.Join(at, "grayloft.toml"), []byte(t.String())); err != nil {
		return err
	}
	return commit(at)
}

// bulky is a repository with one task that writes many files by copying them
// from outside the repository.
func (b *bench) bulky(name string, files int, bytes int64) error {
	at, source := filepath.Join(b.dir, name), filepath.Join(b.dir, name+"-source")
	if _, err := os.Stat(filepath.Join(at, ".git", "HEAD")); err == nil {
		return nil
	}
	if err := spread(source, files, bytes); err != nil {
		return err
	}
	text := fmt.Sprintf(
		"schema = 1\n[repo]\nname = \"bulky\"\n[task.copy]\n"+
			"run = \"cp -r --reflink=never %s out; for f in $(cat changed); do echo changed >> $f; done\"\n"+
			"reads = [\"changed\"]\nwrites = [\"out/**\"]\nprobes = []\n",
		source,
	)
	if err := write(filepath.Join(at, "grayloft.toml"), []byte(text)); err != nil {
		return err
	}
	if err := write(filepath.Join(at, "changed"), nil); err != nil { // names of files that are to differ
		return err
	}
	if err := write(filepath.Join(at, ".gitignore"), []byte("out/\n")); err != nil {
		return err
	}
	return commit(at)
}

// shell runs a command line in a directory, with extra environment variables.
func shell(dir, line string, env ...string) error {
	cmd := exec.Command("sh", "-e", "-c", line)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), env...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", line, err, lastLines(string(out)))
	}
	return nil
}

func lastLines(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}
