package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/schedule"
)

// joined is a run of several machines: the tasks of Skerry Lines, which only sleep for as
// long as they took when they were recorded, stretched.
type joined struct {
	b       *bench
	f       *fleet
	tasks   []*graph.Task
	seconds map[string]float64
	rounds  int
}

// stretch makes the tasks long against what eight clients on one machine do around them.
const stretch = 3.0

func newJoined(b *bench, f *fleet) (*joined, error) {
	g, err := graph.Load(os.DirFS("demo/skerry"), "skerry")
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile("internal/core/schedule/testdata/skerry.json")
	if err != nil {
		return nil, err
	}
	j := &joined{b: b, f: f, tasks: g.Tasks, seconds: map[string]float64{}}
	if err := json.Unmarshal(text, &j.seconds); err != nil {
		return nil, err
	}
	return j, j.write()
}

func name(t *graph.Task) string { return strings.ReplaceAll(t.Addr(), "@", "-of-") }

// write makes the repository.
func (j *joined) write() error {
	var s strings.Builder
	s.WriteString("schema = 1\n[repo]\nname = \"bulky\"\n")
	for _, t := range j.tasks {
		j.seconds[t.Addr()] *= stretch
		var after []string
		for _, u := range t.Dependencies {
			after = append(after, fmt.Sprintf("%q", name(u)))
		}
		fmt.Fprintf(
			&s,
			"[task.%s]\nrun = \"sleep %.3f; mkdir -p out; cp in out/%s\"\nreads = [\"in\"]\nwrites = [\"out/%s\"]\nprobes = []\nafter = [%s]\n",
			name(t),
			j.seconds[t.Addr()],
			name(t),
			name(t),
			strings.Join(after, ", "),
		)
	}
	dir := filepath.Join(j.b.dir, "joined")
	if have, err := os.ReadFile(filepath.Join(dir, "grayloft.toml")); err == nil && string(have) == s.String() {
		return nil
	}
	if err := os.RemoveAll(dir); err != nil { // of an earlier version, with other times
		return err
	}
	for file, text := range map[string]string{"grayloft.toml": s.String(), "in": "0\n", ".gitignore": "out/\n"} {
		if err := write(filepath.Join(dir, file), []byte(text)); err != nil {
			return err
		}
	}
	return commit(dir)
}

// simulated is what the run is expected to take, and the bound of any schedule.
func (j *joined) simulated(members int) schedule.Simulated {
	return schedule.Joined{Members: members, Slots: 1, Delay: 0.2}.
		Simulate(j.tasks, func(t *graph.Task) float64 { return j.seconds[t.Addr()] })
}

// run runs the tasks on so many members, each in a clone and with a cache of its own.
func (j *joined) run(members int) error {
	j.rounds++
	id := fmt.Sprintf("bench-%d-%d", os.Getpid(), j.rounds)
	var wg sync.WaitGroup
	errs := make([]error, members)
	for i := range members {
		wg.Go(func() {
			cmd := exec.Command(j.b.client, "run", "--pick", "all", "--jobs", "1", "--quiet", "--join", id)
			cmd.Dir = j.clone(i)
			cmd.Env = append(os.Environ(), "GRAYLOFT_SERVICE="+j.f.url, "GRAYLOFT_TOKEN="+j.f.token, fmt.Sprint("GRAYLOFT_PLACE=", i),
				"GRAYLOFT_CACHE="+filepath.Join(j.b.dir, fmt.Sprint("joined-cache-", i)))
			if out, err := cmd.CombinedOutput(); err != nil {
				errs[i] = fmt.Errorf("member %d: %w\n%s", i, err, out)
			}
		})
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func (j *joined) clone(i int) string { return filepath.Join(j.b.dir, fmt.Sprint("joined-", i)) }

// prepare makes clones with an input that nobody has seen.
func (j *joined) prepare(members int) string {
	lines := []string{
		fmt.Sprintf(
			"cd %s && date +%%s%%N > in && git -c user.name=bench -c user.email=bench@skerry.example commit -qam next",
			filepath.Join(j.b.dir, "joined"),
		),
	}
	for i := range members {
		lines = append(
			lines,
			fmt.Sprintf("rm -rf %s %s && git clone -q %s %s", j.clone(i), filepath.Join(j.b.dir, fmt.Sprint("joined-cache-", i)),
				filepath.Join(j.b.dir, "joined"), j.clone(i)),
		)
	}
	return strings.Join(lines, " && ")
}

func (j *joined) rows() (out []row) {
	for _, members := range []int{2, 4, 8} {
		bound := j.simulated(members).Bound
		out = append(out, row{
			name: fmt.Sprintf("the same for %d joined machines, simulated", members), goal: 1.15,
			simulate: func() schedule.Simulated { return j.simulated(members) },
		}, row{
			name: fmt.Sprintf("a run of %d joined machines of one slot, against the bound of any schedule", members), goal: 1.15,
			in:       "joined",
			ours:     side{before: j.prepare(members), do: func() error { return j.run(members) }},
			baseline: side{do: func() error { time.Sleep(time.Duration(bound * float64(time.Second))); return nil }},
			rounds:   1,
		})
	}
	return out
}
