// Package oracle drives the client through random sequences of steps in a small repository, and
// compares what it leaves with what a clean execution leaves: in the checkout, in a second checkout
// that shares its cache, and on another machine that shares results through a service. The clean
// execution is an evaluator of its own (package play), which knows nothing of reuse.
package oracle

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
	"grayloft.example/grayloft/internal/trial/oracle/play"
)

// Programs are what sequences start.
type Programs struct{ Client, Act string }

// Build builds the programs.
func Build(t testing.TB) Programs {
	t.Helper()
	p := Programs{Client: trial.Build(t), Act: filepath.Join(t.TempDir(), "act")}
	build := exec.Command("go", "build", "-trimpath", "-o", p.Act, "grayloft.example/grayloft/internal/trial/oracle/act")
	out, err := build.CombinedOutput()
	if err != nil {
		t.Fatalf("building the program of tasks: %v\n%s", err, out)
	}
	return p
}

// Options say what a sequence consists of.
type Options struct {
	Seed    uint64
	Steps   int
	Only    []string       // names or families of the unusual steps; nil: all
	Service *trial.Service // nil: nothing is shared between machines
}

// Counts say how much a sequence tried.
type Counts struct {
	Steps, Ran, Reused, Restored, Fetched, Refused int
	Kinds                                          map[string]int
}

// Add adds the counts of another sequence.
func (c *Counts) Add(o Counts) {
	c.Steps += o.Steps
	c.Ran += o.Ran
	c.Reused += o.Reused
	c.Restored += o.Restored
	c.Fetched += o.Fetched
	c.Refused += o.Refused
	if c.Kinds == nil {
		c.Kinds = map[string]int{}
	}
	for k, n := range o.Kinds {
		c.Kinds[k] += n
	}
}

// Finding is something wrong, with the steps that led to it.
type Finding struct {
	Seed  uint64
	Step  int
	What  string
	Steps []string
}

func (f *Finding) String() string {
	last := f.Steps[max(0, len(f.Steps)-12):]
	return fmt.Sprintf("seed %d, step %d: %s\nlast steps:\n  %s", f.Seed, f.Step, f.What, strings.Join(last, "\n  "))
}

// Sequence carries out a sequence until something is wrong; nil if nothing is.
func Sequence(t testing.TB, p Programs, o Options) (*Finding, Counts) {
	t.Helper()
	w := newWorld(t, p, o)
	w.counts.Kinds = map[string]int{}
	for i := range o.Steps {
		w.counts.Steps++
		what := w.step()
		w.done = append(w.done, fmt.Sprintf("%d %s", i, what))
		if wrong := w.check(); wrong != "" {
			return &Finding{o.Seed, i, wrong, w.done}, w.counts
		}
	}
	return nil, w.counts
}

// world is a random repository and the machines on which it is checked out.
type world struct {
	t      testing.TB
	rnd    *rand.Rand
	base   string      // directory of everything
	r      *trial.Repo // where the steps are
	second *trial.Repo // on the same machine
	far    *trial.Repo // on another one; nil without a service
	only   map[string]bool
	done   []string
	counts Counts
	aside  map[string]string // files of the state, of another day
	saved  map[string]string // tracked outputs before a run was killed
	away   map[int]bool      // projects whose dist leads out of the repository, until the next step

	index   fs.FileInfo // of git, when it was asked what it tracks
	tracked map[string]bool

	needs   [][]int
	offers  []string
	version []map[string]int
	sealed  []bool
	never   []bool
	value   int
	name    string
	probe   string
	reads   string // of the probe
}

// launchers are ways to ask the tool for its version.
var launchers = []string{
	`"mill"`, `"mill"`, `["mill"]`, `"sh -c mill"`, `"setsid mill"`, `"stdbuf -o0 mill"`, `"ionice mill"`,
	`["perl", "-e", "exec 'mill'"]`, `["setsid", "-w", "mill"]`,
}

func newWorld(t testing.TB, p Programs, o Options) *world {
	w := &world{
		t: t, rnd: rand.New(rand.NewPCG(o.Seed, 36)), base: t.TempDir(),
		only: map[string]bool{}, aside: map[string]string{}, away: map[int]bool{},
		name: fmt.Sprintf("oracle-%d", o.Seed),
	}
	for _, name := range o.Only {
		w.only[name] = true
	}
	w.machines(p, o.Service)
	w.begin()
	return w
}

// machines makes the places in which the repository is checked out.
func (w *world) machines(p Programs, s *trial.Service) {
	env := func(cache string) []string {
		return []string{
			"GRAYLOFT_CACHE=" + w.at(cache), "GRAYLOFT_NAME=tester", "GRAYLOFT_CONFIG=" + w.at("config-"+cache), "HOME=" + w.at("home"),
			"ORACLE=" + w.at("hooks"), "PATH=" + w.at("tools/bin") + ":" + os.Getenv("PATH"), "TMPDIR=" + w.at("tmp"),
			"GIT_CONFIG_GLOBAL=" + os.DevNull, "GIT_CONFIG_NOSYSTEM=1",
		}
	}
	for _, d := range []string{"tools/bin", "home", "hooks", "one", "two", "three", "tmp", "outside"} {
		w.must(os.MkdirAll(w.at(d), 0o755))
	}
	act, err := os.ReadFile(p.Act)
	w.must(err)
	w.must(os.WriteFile(w.at("tools/bin/act"), act, 0o755))
	w.tool(1)
	w.r = &trial.Repo{T: w.t, Dir: w.at("one/repo"), Env: env("cache"), Bin: p.Client}
	w.second = &trial.Repo{T: w.t, Dir: w.at("two/repo"), Env: env("cache"), Bin: p.Client}
	if s == nil {
		return
	}
	w.far = &trial.Repo{T: w.t, Dir: w.at("three/repo"), Env: env("cache-far"), Bin: p.Client}
	ci := s.TokenFor(w.t, w.name, "ci", "trusted", "trusted")
	other := s.TokenFor(w.t, w.name, "other", "person/other", "person/other", "trusted")
	w.r.Login(s.URL, ci, "here")
	w.second.Login(s.URL, ci, "here")
	w.far.Login(s.URL, other, "there")
}

// begin writes the first files of the repository and commits them.
func (w *world) begin() {
	w.probe, w.reads = w.pick(launchers), w.pick([]string{"reads = []", "reads = []", ""})
	for i := range 2 + w.rnd.IntN(2) {
		var needs []int
		for j := range i {
			if w.rnd.IntN(3) > 0 {
				needs = append(needs, j)
			}
		}
		w.needs, w.offers = append(w.needs, needs), append(w.offers, `"src/**"`)
		w.version, w.sealed, w.never = append(w.version, map[string]int{}), append(w.sealed, w.rnd.IntN(2) == 0), append(w.never, false)
		dir := fmt.Sprintf("p%d/", i)
		w.write(dir+"in/a.txt", "a\n")
		w.write(dir+"in/b.txt", "b\n")
		w.write(dir+"src/m.txt", fmt.Sprintf("m%d\n", i))
		w.write(dir+"lib/l.txt", "l\n")
		w.write(dir+"vendor/v.txt", "v\n")
	}
	w.write("shared/s.txt", "s\n")
	w.write(".gitignore", "out/\nvendor/\n")
	w.declare()
	w.r.Git("init", "-q", "-b", "main", "--template=")
	w.r.Commit("start")
}

func (w *world) at(rel string) string { return filepath.Join(w.base, rel) }

func (w *world) must(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) pick(list []string) string { return list[w.rnd.IntN(len(list))] }

func (w *world) write(name, text string) {
	w.must(os.MkdirAll(filepath.Dir(w.r.Path(name)), 0o755))
	w.must(os.WriteFile(w.r.Path(name), []byte(text), 0o644))
}

// tool installs a version of the tool: always a program of the same size.
func (w *world) tool(version int) {
	file := w.at("tools/bin/mill")
	text := fmt.Sprintf("#!/bin/sh\necho mill %d\ncat \"$HOME/.millrc\" 2>/dev/null || true\n", version)
	w.must(os.WriteFile(file+".new", []byte(text), 0o755))
	w.must(os.Rename(file+".new", file))
}

// call is a task as the evaluator carries it out.
func (w *world) call(i int, task string) play.Call {
	c := play.Call{
		Project: fmt.Sprintf("p%d", i), Task: task, Version: fmt.Sprint(w.version[i][task]), Size: "small",
		Value: fmt.Sprint(w.value), Tools: w.at("tools"), Home: w.at("home"),
	}
	if task == "join" {
		for _, j := range w.allNeeds(i) {
			c.Needs = append(c.Needs, fmt.Sprintf("p%d", j))
		}
	}
	return c
}

func (w *world) allNeeds(i int) []int {
	set := map[int]bool{}
	var add func(int)
	add = func(k int) {
		for _, j := range w.needs[k] {
			set[j] = true
			add(j)
		}
	}
	add(i)
	var out []int
	for j := range i {
		if set[j] {
			out = append(out, j)
		}
	}
	return out
}

// tasks are those of a project, in an order in which they can run.
var tasks = []string{"gen", "pack", "lint", "seen", "join"}

// declare writes the declarations.
func (w *world) declare() {
	w.write("grayloft.toml", fmt.Sprintf(`schema = 1
[repo]
name = %q
projects = ["p*"]
[probe.mill]
run = %s
%s
dirs = [%q]
[setting.size]
values = ["small", "large"]
default = "small"
`, w.name, w.probe, w.reads, w.at("tools")))
	for i := range w.needs {
		var needs []string
		for _, j := range w.needs[i] {
			needs = append(needs, fmt.Sprintf("%q", fmt.Sprint("p", j)))
		}
		var b strings.Builder
		fmt.Fprintf(&b, "[project]\nneeds = [%s]\noffers = [%s]\n", strings.Join(needs, ", "), w.offers[i])
		for _, task := range tasks {
			c := w.call(i, task)
			c.Size = "%{setting.size}"
			var args []string
			for _, a := range c.Arguments() {
				args = append(args, fmt.Sprintf("%q", a))
			}
			fmt.Fprintf(&b, "[task.%s]\nrun = [\"act\", %s]\nprobes = [\"mill\"]\nenv_unkeyed = [\"ORACLE\"]\n%s",
				task, strings.Join(args, ", "), w.fields(i, task))
		}
		b.WriteString("[task.check]\nrun = \"test -s out/join.txt\"\nreads = []\nwrites = []\nprobes = []\nafter = [\"join\"]\n")
		w.write(fmt.Sprintf("p%d/loft.toml", i), b.String())
	}
}

func (w *world) fields(i int, task string) string {
	switch task {
	case "gen":
		reuse := ""
		if w.never[i] {
			reuse = "reuse = \"never\"\n"
		}
		return "reads = [\"in/**\"]\nwrites = [\"out/gen/**\"]\n" + reuse
	case "pack":
		isolation := ""
		if w.sealed[i] {
			isolation = "isolation = \"sealed\"\n"
		}
		return "reads = [\"lib/**\"]\nwrites = [\"dist/**\"]\nafter = [\"gen\"]\n" + isolation
	case "lint":
		return "reads = [\"dist/**\"]\nwrites = [\"out/lint.txt\"]\nafter = [\"pack\"]\n"
	case "seen":
		return "reads = [\"vendor/**\", \"repo:shared/**\"]\nwrites = [\"out/seen.txt\"]\n"
	}
	return "reads = [\"src/**\", \"needs:*\"]\nwrites = [\"out/join.txt\"]\nafter = [\"gen\", \"join@needs:*\"]\n" +
		fmt.Sprintf("env = [\"VALUE=%d\"]\n", w.value)
}

// dropUnread removes files that the ignore rules exclude from what tasks declare that they read:
// their commands would see them all the same, which is not honest.
func (w *world) dropUnread() {
	args := []string{
		"ls-files", "-z", "--others", "--ignored", "--exclude-per-directory=.gitignore", "--",
		"p*/in/*", "p*/src/*", "p*/lib/*", "shared/*",
	}
	if !strings.Contains(w.r.Read(".gitignore"), "vendor/") {
		args = append(args, "p*/vendor/*") // otherwise the patterns start at what is ignored
	}
	for f := range strings.SplitSeq(w.r.Git(args...), "\x00") {
		if f != "" {
			w.r.Remove(f)
		}
	}
}

// step carries out one random step.
func (w *world) step() string {
	for i := range w.away {
		w.r.Remove(fmt.Sprintf("p%d/dist", i))
		delete(w.away, i)
	}
	usual := w.rnd.IntN(3) == 0 || w.only["usual"]
	var list []kind
	for _, k := range kinds {
		switch {
		case k.family == "usual":
			if usual {
				list = append(list, k)
			}
		case usual, len(w.only) > 0 && !w.only[k.name] && !w.only[k.family]:
		default:
			list = append(list, k)
		}
	}
	k := list[w.rnd.IntN(len(list))]
	w.counts.Kinds[k.name]++
	i := w.rnd.IntN(len(w.needs))
	said := k.name + ": " + k.do(w, i)
	w.dropUnread()
	return said
}

// kind is a kind of step. It says what it did.
type kind struct {
	name, family string
	do           func(w *world, i int) string
}

var kinds = slices.Concat(usualSteps, fileSteps, gitSteps, outputSteps, stateSteps, meanwhileSteps, probeSteps, optionSteps)
