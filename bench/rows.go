package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/schedule"
)

// row is one line of the table: two commands that are timed in turn.
type row struct {
	name     string
	goal     float64 // upper limit for ours divided by the baseline
	in       string  // repository
	once     string  // runs before the first round
	rounds   int     // 0: the default
	less     bool    // subtract the baseline's time from ours, to measure the overhead
	ours     side
	baseline side
	simulate func() schedule.Simulated // instead of both, in virtual time
	memory   func() (int64, error)     // instead of both: bytes, of which the goal is in MB
}

// side is a command and its preparation, which is not timed.
type side struct {
	before string
	run    string
	do     func() error // replaces run
	in     string       // a different repository than the row's
}

type result struct {
	Name     string    `json:"name"`
	Ours     float64   `json:"ours_seconds"`     // median
	Baseline float64   `json:"baseline_seconds"` // median
	Ratio    float64   `json:"ratio"`
	Goal     float64   `json:"goal"`
	Noise    float64   `json:"baseline_spread"` // largest less smallest, divided by the median
	Each     []float64 `json:"ours_each"`
	Against  []float64 `json:"baseline_each"`
}

type bench struct {
	dir    string
	client string
	rounds int
}

func (b *bench) rows() []row {
	all := b.client + " run build test lint -q"
	affected := b.client + " run --pick affected -q"
	source := filepath.Join(b.dir, "bulky-source")
	return []row{
		{name: "declarations of 1,000 projects, against git status", goal: 1, in: "large",
			ours: side{run: b.client + " projects > /dev/null"}, baseline: side{run: "git status -s > /dev/null"}},
		{name: "plan with nothing to do, against git status", goal: 0.9, in: "large", once: all + "; " + all, // the second run has nothing to do
			ours: side{run: b.client + " plan build test lint > /dev/null"}, baseline: side{run: "git status -s > /dev/null"}},
		{name: "run of the affected tasks with nothing to do, against git status", goal: 0.9, in: "large", once: affected,
			ours: side{run: affected}, baseline: side{run: "git status -s > /dev/null"}},
		{name: "run with nothing to do, against git status", goal: 0.8, in: "large", once: all,
			ours: side{run: all}, baseline: side{run: "git status -s > /dev/null"}},
		{name: "the same after one file changed, less the task's own work", goal: 1.1, in: "large", once: all,
			ours: side{
				before: "date +%s%N >> area03/p0160/test/0/f4.txt",
				run:    all,
			}, baseline: side{run: "git status -s > /dev/null"}},
		{name: "no goal: the same after a file was saved under another name first, and committed", in: "large", once: all,
			ours: side{
				before: "f=area03/p0160/test/0/f4.txt; cp $f $f.new && date +%s%N >> $f.new && mv $f.new $f && " +
					"git -c user.name=bench -c user.email=bench@grayloft.example commit -q -a -m saved",
				run: all,
			}, baseline: side{run: "git status -s > /dev/null"}},
		{name: "reach since the base, against git diff and ls-files", goal: 1.5, in: "large",
			ours: side{
				run: b.client + " reach > /dev/null",
			}, baseline: side{run: "git diff --name-only main > /dev/null; git ls-files --others --exclude-standard > /dev/null"}},
		{name: "first fingerprint of 100,000 files, against reading them", goal: 1.2, in: "large", once: all,
			ours:     side{before: "rm -f .grayloft/digests* .grayloft/current", run: b.client + " plan build test lint > /dev/null"},
			baseline: side{run: "find area* -type f -print0 | xargs -0 -P2 -n 500 cat > /dev/null"}},
		{name: "check of 20,000 sources, nothing remembered, against git grep", goal: 3, in: "sources",
			ours: side{
				before: "mkdir -p .grayloft && rm -f .grayloft/checked .grayloft/survey .grayloft/tracked",
				run:    b.client + " check > /dev/null",
			},
			baseline: side{run: "git grep -l import > /dev/null"}},
		{name: "the same with nothing changed, against git grep", goal: 0.5, in: "sources", once: b.client + " check > /dev/null",
			ours: side{run: b.client + " check > /dev/null"}, baseline: side{run: "git grep -l import > /dev/null"}},
		{name: "2,000 tasks that do nothing, two slots, against xargs", goal: 1.2, in: "trivial",
			ours: side{run: b.client + " run --pick all --jobs 2 -q"}, baseline: side{run: "seq 2000 | xargs -P2 -n1 sh -c true"}},
		{name: "restoring 10,000 files, 500 MB (files read before), against cp -r", goal: 0.3, in: "bulky", once: b.client + " run copy -q",
			ours: side{
				before: b.aside("out"),
				run:    b.client + " run copy -q",
			}, baseline: side{before: b.aside("../copied"), run: "cp -r --reflink=never " + source + " ../copied"}},
		{name: "no goal, a bound: writing as many bytes from memory, a thread per core, against cp -r", in: "bulky",
			ours:     side{before: b.aside("../bare"), do: func() error { return bare(filepath.Join(b.dir, "bare"), 10_000, 50<<10) }},
			baseline: side{before: b.aside("../copied"), run: "cp -r --reflink=never " + source + " ../copied"}},
		{name: "keeping the same, which the cache has, less the task's own copying", goal: 0.25, in: "bulky", less: true,
			once: b.client + " run copy -q",
			ours: side{
				before: b.aside("out"),
				run:    b.client + " run copy -q --no-reuse",
			}, baseline: side{before: b.aside("../copied"), run: "cp -r --reflink=never " + source + " ../copied"}},
		{name: "keeping the same, which is new to the cache, less the task's own copying", goal: 1.5, in: "bulky", less: true,
			ours: side{
				before: b.aside("out") + "; " + b.aside(filepath.Join(b.dir, "cache")),
				run:    b.client + " run copy -q --no-reuse",
			}, baseline: side{before: b.aside("../copied"), run: "cp -r --reflink=never " + source + " ../copied"}},
		{name: "no goal: restoring over another result of which 1 % differs, against cp -r", in: "bulky",
			once: b.client + " run copy -q; " + differ + "; " + b.client + " run copy -q",
			ours: side{
				before: differ,
				run:    b.client + " run copy -q",
			}, baseline: side{before: b.aside("../copied"), run: "cp -r --reflink=never " + source + " ../copied"}},
		{name: "no goal: the first run after restoring, nothing to do, against reading the outputs", in: "bulky",
			once: b.client + " run copy -q",
			ours: side{
				before: b.aside("out") + "; " + b.client + " run copy -q",
				run:    b.client + " run copy -q",
			}, baseline: side{run: "find out -type f -print0 | xargs -0 -P2 -n 500 cat > /dev/null"}},
		{name: "ten times the projects, nothing to do", goal: 9, in: "large", once: all,
			ours: side{run: all}, baseline: side{run: all, in: "tenth"}},
		{name: "memory of a client, 1,000 projects, nothing to do, in MB", goal: 80, in: "large", once: all,
			memory: func() (int64, error) {
				return peak(filepath.Join(b.dir, "large"), b.client, "run", "build", "test", "lint", "-q")
			}},
	}
}

// differ is a command that asks for the other one of two results.
const differ = "if [ -s changed ]; then : > changed; else find out -name 'f*00' | sort > changed; fi"

// aside is a command that moves a directory away instead of deleting it, and frees its room if the disk
// has less than 20 GB: for some minutes ext4 without a journal examines every inode that was deleted when
// it makes a file nearby, which would be measured instead of the copying.
func (b *bench) aside(dir string) string {
	return "if [ -e " + dir + " ]; then gone=$(mktemp -d -p " + filepath.Join(b.dir, "gone") + "); mv " + dir + " $gone/; " +
		"if [ $(df -P -B 1000000000 $gone | awk 'NR == 2 { print $4 }') -lt 20 ]; then " +
		"find $gone -type f -print0 | xargs -0 -r truncate -s 0; fi; fi"
}

func (b *bench) measure(r row) (result, error) {
	res := result{Name: r.name, Goal: r.goal}
	env := []string{"GRAYLOFT_CACHE=" + filepath.Join(b.dir, "cache")}
	for _, in := range []string{r.in, r.baseline.in} {
		if in != "" && r.once != "" {
			if err := shell(filepath.Join(b.dir, in), r.once, env...); err != nil {
				return res, err
			}
		}
	}
	time1 := func(s side) (float64, error) {
		in := r.in
		if s.in != "" {
			in = s.in
		}
		dir := filepath.Join(b.dir, in)
		if s.before != "" {
			if err := shell(dir, s.before, env...); err != nil {
				return 0, err
			}
		}
		began := time.Now()
		if s.do != nil {
			err := s.do()
			return time.Since(began).Seconds(), err
		}
		err := shell(dir, s.run, env...)
		return time.Since(began).Seconds(), err
	}
	rounds := b.rounds
	if r.rounds > 0 {
		rounds = r.rounds
	}
	for i := range rounds + 1 {
		ours, err := time1(r.ours)
		if err != nil {
			return res, err
		}
		base, err := time1(r.baseline)
		if err != nil {
			return res, err
		}
		if r.less {
			ours -= base
		}
		if i > 0 || r.rounds == 1 { // the first round warms up
			res.Each, res.Against = append(res.Each, ours), append(res.Against, base)
		}
	}
	res.Ours, res.Baseline = median(res.Each), median(res.Against)
	res.Ratio = res.Ours / res.Baseline
	res.Noise = (slices.Max(res.Against) - slices.Min(res.Against)) / res.Baseline
	return res, nil
}

// again is how often a row is measured whose baseline spreads by more than a half: the machine
// was doing something else.
const again = 3

// measureQuietly measures a row until the machine is quiet, and otherwise returns the least
// noisy result.
func (b *bench) measureQuietly(r row) (best result, err error) {
	for i := range again {
		res, err := b.measure(r)
		if err != nil {
			return res, err
		}
		if i == 0 || res.Noise < best.Noise {
			best = res
		}
		if best.Noise <= 0.5 {
			break
		}
	}
	return best, nil
}

func median(list []float64) float64 {
	s := slices.Sorted(slices.Values(list))
	return (s[(len(s)-1)/2] + s[len(s)/2]) / 2
}

// bare writes files with the least work that a program can have with them.
func bare(dir string, files, bytes int) error {
	var g errgroup.Group
	text := noise(rand.New(rand.NewPCG(5, 5)), bytes)
	each := files / runtime.NumCPU()
	for part := range runtime.NumCPU() {
		g.Go(func() error {
			for i := part * each; i < (part+1)*each; i++ {
				name := filepath.Join(dir, fmt.Sprint(i/100), fmt.Sprint(i))
				if i%100 == 0 || i == part*each {
					if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
						return err
					}
				}
				if err := os.WriteFile(name, text, 0o644); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// spread writes many files of pseudo-random contents, a hundred per directory.
func spread(dir string, files int, bytes int64) error {
	rnd := rand.New(rand.NewPCG(5, 5))
	for i := range files {
		if err := write(filepath.Join(dir, fmt.Sprint(i/100), fmt.Sprintf("f%05d", i)), noise(rnd, int(bytes/int64(files)))); err != nil {
			return err
		}
	}
	return nil
}
