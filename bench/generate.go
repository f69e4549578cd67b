// Command bench measures Gray Loft against the limits of this machine, on
// repositories that it generates: `make bench`.
package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// shape is the size of a generated repository.
type shape struct {
	projects int
	files    int   // in total
	bytes    int64 // in total
}

// large is the repository that most goals refer to: three tasks per project.
var large = shape{projects: 1000, files: 100_000, bytes: 760 << 20}

// generate writes a repository of that shape: twenty areas of five layers, in
// which each project needs two of the layer below, and every tenth project also
// one of the first area; one kind for all, three tasks each. The contents are
// pseudo-random, and the same in every run.
func generate(dir string, s shape) error {
	rnd := rand.New(rand.NewPCG(7, 7))
	kinds := `schema = 1

[repo]
name     = "large"
projects = ["area*/*"]
since    = "main"

[probe.sh]
run   = "echo posix"
reads = []

[kind.unit]
offers = ["src/**"]

[kind.unit.task.build]
run    = "mkdir -p out && cat src/0/f0.txt > out/built"
reads  = ["src/**", "needs:*"]
writes = ["out/built"]
probes = ["sh"]
after  = ["build@needs:*"]

[kind.unit.task.test]
run    = "true"
reads  = ["src/**", "test/**"]
writes = []
probes = ["sh"]
after  = ["build"]

[kind.unit.task.lint]
run    = "true"
reads  = ["src/**"]
writes = []
probes = ["sh"]
`
	if err := write(filepath.Join(dir, "grayloft.toml"), []byte(kinds)); err != nil {
		return err
	}
	if err := write(filepath.Join(dir, ".gitignore"), []byte("out/\n")); err != nil {
		return err
	}
	per := s.files/s.projects - 1
	size := int(s.bytes / int64(s.files))
	for i := range s.projects {
		at := filepath.Join(dir, fmt.Sprintf("area%02d/p%04d", i*areas/s.projects, i))
		var needs []string
		for _, n := range needsOf(rnd, s, i) {
			needs = append(needs, fmt.Sprintf("%q", projectName(s, n)))
		}
		decl := fmt.Sprintf("[project]\nkind  = \"unit\"\nneeds = [%s]\ntags  = [\"area%02d\"]\n", strings.Join(slices.Compact(needs), ", "), i*areas/s.projects)
		if err := write(filepath.Join(at, "loft.toml"), []byte(decl)); err != nil {
			return err
		}
		for f := range per {
			kind := "src"
			if f%5 == 4 {
				kind = "test"
			}
			if err := write(filepath.Join(at, kind, fmt.Sprint(f/20), fmt.Sprintf("f%d.txt", f)), noise(rnd, size)); err != nil {
				return err
			}
		}
	}
	return commit(dir)
}

const (
	areas  = 20
	layers = 5
)

// needsOf returns the needs of a project, by number.
func needsOf(rnd *rand.Rand, s shape, i int) []int {
	per := max(s.projects/areas, 1)
	wide := max(per/layers, 1)
	area, at := i/per, i%per
	layer := at / wide
	var out []int
	if layer > 0 {
		for range 2 {
			out = append(out, area*per+(layer-1)*wide+rnd.IntN(wide))
		}
	}
	if area > 0 && i%10 == 0 {
		out = append(out, rnd.IntN(per))
	}
	return out
}

func projectName(s shape, i int) string { return fmt.Sprintf("area%02d/p%04d", i*areas/s.projects, i) }

// noise returns bytes that compress about as well as source code does.
func noise(rnd *rand.Rand, n int) []byte {
	out := make([]byte, 0, n+16)
	for len(out) < n {
		out = append(out, words[rnd.IntN(len(words))]...)
		if rnd.IntN(8) == 0 {
			out = append(out, '\n')
		}
	}
	return out[:n]
}

var words = strings.SplitAfter("tide ferry harbour berth gate fare route deck crew signal sail winter summer island north south quay light storm anchor rope chart bell watch passenger ticket ledger slip crane buoy ", " ")

func write(name string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, data, 0o644)
}

// commit makes a git repository of the current files.
func commit(dir string) error {
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=bench", "-c", "user.email=bench@bench.example", "commit", "-q", "-m", "start"}} {
		cmd := exec.Command("git", args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
	}
	return nil
}
