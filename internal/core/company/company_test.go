package company

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/decide"
)

var quick = Overheads{RestoreRate: 1e9}

// two are a task with outputs, and one that comes after it.
func two() []*Task {
	var tasks []*Task
	for n, after := range [][]int{nil, {0}} {
		t := newTask(n, after, tasks)
		t.Seconds, t.Bytes, t.Shareable = 10, 1e6, true
		tasks = append(tasks, t)
	}
	return tasks
}

func machine(shelf string, reads ...string) *Machine {
	return &Machine{Slots: 2, Pace: 1, Rate: 1e6, Delay: 0.1, Shelf: shelf, Reads: append([]string{shelf}, reads...)}
}

func items(keys ...Key) (out []Item) {
	for n, k := range keys {
		out = append(out, Item{Task: n, Key: k, Picked: n == len(keys)-1, Seconds: 10})
	}
	return out
}

// world returns a world, and a function that lets a machine run something at a time.
func world(c Config) (w *World, run func(at float64, m *Machine, list []Item) *Run) {
	c.Costs = quick
	w = New(two(), c, &Demand{Each: 3600, Regions: 1})
	return w, func(at float64, m *Machine, list []Item) *Run {
		r := &Run{Machine: m, Items: list}
		w.At(at, func() { w.Start(r) })
		return r
	}
}

func outcomes(r *Run) string {
	var out []string
	for n := range len(r.ByIndex) {
		out = append(out, string(r.ByIndex[n]))
	}
	return strings.Join(out, " ")
}

func TestWhatAMachineHasIsNotSoughtElsewhere(t *testing.T) {
	w, run := world(Config{})
	m, clean := machine("trusted"), machine("person/kari", "trusted")
	first, again := run(0, m, items(1, 2)), run(100, m, items(1, 2))
	changed := run(200, m, items(1, 3))
	other := run(300, clean, items(1, 2))
	w.Play(1000)
	for _, c := range []struct {
		run     *Run
		want    string
		seconds float64
	}{
		{first, "ran ran", 20.1}, {again, "current current", 0}, {changed, "current ran", 10.1}, {other, "cached fetched", 1.2},
	} {
		if got := outcomes(c.run); got != c.want || math.Abs(c.run.Totals.Seconds-c.seconds) > 0.15 {
			t.Errorf("%s after %.2f s, want %s after %.2f s", got, c.run.Totals.Seconds, c.want, c.seconds)
		}
	}
	if s := w.Demand.Sum(0, 3600); s.Asks[Share].Requests != 3 || s.Asks[Share].Units != 3 || s.Asks[Fetch].Units != 1 || s.In[0] != 1e6 {
		t.Errorf("%+v", s)
	}
}

// A task that runs reads outputs that nobody asked for, so they are fetched first.
func TestOutputsAreFetchedForTheTaskThatReadsThem(t *testing.T) {
	w, run := world(Config{})
	run(0, machine("trusted"), items(1, 2))
	reader := run(100, machine("person/kari", "trusted"), items(1, 3))
	w.Play(1000)
	if got := outcomes(reader); got != "fetched ran" || math.Abs(reader.Totals.Seconds-11.3) > 0.3 {
		t.Errorf("%s after %.2f s", got, reader.Totals.Seconds)
	}
}

func TestAFailureBlocksWhatComesAfterIt(t *testing.T) {
	w, run := world(Config{})
	list := items(1, 2)
	list[0].Fails = true
	r := run(0, machine("trusted"), list)
	w.Play(1000)
	if got := outcomes(r); got != "failed blocked" {
		t.Error(got)
	}
	if n := w.Demand.Sum(0, 3600).Asks[Share].Requests; n != 0 {
		t.Errorf("%d results were shared", n)
	}
}

func TestAClaimedTaskIsWaitedFor(t *testing.T) {
	for _, c := range []struct {
		name      string
		config    Config
		own       bool // it does not read the shelf
		late      float64
		work      float64
		waits     int
		secondRan bool
	}{
		{name: "with claims", late: 3, work: 10, waits: 1},
		{name: "without", config: Config{NoClaims: true}, late: 3, work: 20, secondRan: true},
		{name: "of a shelf that it does not read", own: true, late: 3, work: 20, secondRan: true},
		{name: "without a shared cache", config: Config{NoShared: true}, late: 3, work: 20, secondRan: true},
	} {
		w, run := world(c.config)
		a, b := machine("trusted"), machine("person/kari", "trusted")
		if c.own {
			b.Reads = []string{"person/kari"}
		}
		run(0, a, items(1))
		second := run(c.late, b, items(1))
		w.Play(1000)
		total := w.Demand.Sum(0, 3600).Totals
		if total.Work != c.work || total.Waits != c.waits || (outcomes(second) == "ran") != c.secondRan {
			t.Errorf("%s: the second %s, %v s of work, %d waits", c.name, outcomes(second), total.Work, total.Waits)
		}
	}
}

// A claim that outlasts its estimate by half is not waited for any more, and a failure ends the
// wait at once.
func TestAWaitEnds(t *testing.T) {
	w, run := world(Config{})
	slow := items(1)
	slow[0].Seconds = 500
	a := machine("trusted")
	a.ran = map[int]bool{0: true} // so that it has an estimate
	run(0, a, slow)
	second := run(3, machine("person/kari", "trusted"), items(1))
	w.Play(1000)
	if got := second.Totals.Seconds; outcomes(second) != "ran" || got < 21 || got > 24 {
		t.Errorf("overdue: %s after %.1f s", outcomes(second), got)
	}
	w, run = world(Config{})
	bad := items(1)
	bad[0].Fails = true
	run(0, machine("trusted"), bad)
	second = run(3, machine("person/kari", "trusted"), items(1))
	w.Play(1000)
	if got := second.Totals.Seconds; outcomes(second) != "ran" || got < 16 || got > 18 {
		t.Errorf("failed: %s after %.1f s", outcomes(second), got)
	}
}

func TestWhatIsNotUsedLeavesTheCache(t *testing.T) {
	for _, c := range []struct {
		config Config
		want   string
	}{
		{Config{}, "fetched"}, {Config{Keep: 50}, "ran"}, {Config{Keep: 500}, "fetched"}, {Config{Quota: 3_500_000}, "ran"},
	} {
		w, run := world(c.config)
		ci := machine("trusted")
		run(0, ci, items(1))
		for n := range 5 { // others that take its room
			run(float64(20+n*12), ci, items(Key(100+n)))
		}
		r := run(150, machine("person/kari", "trusted"), items(1))
		w.Play(1000)
		if got := outcomes(r); got != c.want {
			t.Errorf("%+v: %s, want %s", c.config, got, c.want)
		}
		if c.config.Quota > 0 && w.Held() > c.config.Quota {
			t.Errorf("%d bytes are held, the quota is %d", w.Held(), c.config.Quota)
		}
	}
}

// The keys of a working copy are those that main has after its edits are merged, and a change
// that makes no difference to outputs ends at the task that reads it.
func TestKeysFollowFromFiles(t *testing.T) {
	r := newRepository(5000, LogNormal{1, 1}, LogNormal{10, 1}, rand.New(rand.NewPCG(1, 1)))
	project := 0 // with dependents
	for len(r.tasks[project*len(kinds)].Dependents) < 5 {
		project++
	}
	build := project * len(kinds)
	a := &view{repo: r}
	a.take()
	was := a.resultOf(build)
	a.change(edit{project: project, class: sources, version: 7, cosmetic: true})
	if now := a.resultOf(build); now.key == was.key || now.outputs != was.outputs || len(a.results) != 3 {
		t.Errorf("a cosmetic change: %+v, %+v, %d tasks", was, now, len(a.results))
	}
	a.change(edit{project: project, class: sources, version: 8})
	if len(a.results) < 10 {
		t.Errorf("a change reaches %d tasks", len(a.results))
	}
	other := &view{repo: r}
	other.take()
	a.merge()
	if got := other.resultOf(build); got.key != was.key {
		t.Error("a merge changes a working copy")
	}
	other.take()
	for i := range r.tasks {
		if got, want := other.resultOf(i), a.resultOf(i); got.key != want.key {
			t.Fatalf("task %d has another key on main", i)
		}
	}
	targets := a.affected(0)
	for i := range a.results {
		if !slices.Contains(targets, i) {
			t.Errorf("task %d changed, and is not affected", i)
		}
	}
	items := a.plan(targets)
	if !slices.IsSortedFunc(items, func(a, b Item) int { return a.Task - b.Task }) || len(items) <= len(targets) {
		t.Errorf("%d items for %d tasks, in this order: %v", len(items), len(targets), items)
	}
}

func TestTheSameSeedGivesTheSameWeek(t *testing.T) {
	play := func(seed uint64, c Config) Totals {
		d := &Demand{Each: 300, Regions: 2}
		c.Costs = quick
		w := People(Company{
			Seed: seed, Tasks: 2500, People: 30, Runners: 5, RunsPerDay: 8, Seconds: LogNormal{1, 1}, Bytes: LogNormal{12, 1},
			Regions: []Region{
				{Name: "harbour", People: 0.5, Office: Line{1e7, 0.01}, Runner: Line{1e8, 0.01}},
				{Name: "outer", Offset: 9, People: 0.5, Office: Line{1e7, 0.2}, Runner: Line{1e8, 0.2}},
			},
		}, 2, c, d)
		w.Play(2 * 86400)
		return d.Sum(0, 2*86400).Totals
	}
	first := play(1, Config{})
	if again := play(1, Config{}); fmt.Sprint(first) != fmt.Sprint(again) {
		t.Errorf("%+v\n%+v", first, again)
	}
	if first.Runs < 300 || first.HitRate() < 0.05 || first.Tasks[string(decide.Fetched)] == 0 {
		t.Errorf("%+v", first)
	}
	if alone := play(1, Config{NoShared: true}); alone.Work < 1.1*first.Work || alone.In != 0 {
		t.Errorf("without a shared cache: %+v", alone)
	}
	if small := play(1, Config{Keep: 60}); small.HitRate() >= first.HitRate() {
		t.Errorf("what is kept for a minute is found as often: %v, %v", small.HitRate(), first.HitRate())
	}
}

func TestADistributionIsFittedToItsSamples(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	want := LogNormal{1.5, 0.7}
	samples := make([]float64, 20_000)
	for n := range samples {
		samples[n] = want.draw(rnd)
	}
	if got := Fit(samples); math.Abs(got.Mean-want.Mean) > 0.02 || math.Abs(got.Deviation-want.Deviation) > 0.02 {
		t.Errorf("%+v", got)
	}
}

func TestRecordingsThatContradictThemselvesAreRefused(t *testing.T) {
	for _, text := range []string{
		"", `{"tasks": [{"after": [0]}]}`, `{"tasks": [{"after": [-1]}]}`, `{"runs": [{"machine": 0}]}`,
		`{"machines": [{}], "runs": [{"machine": 0, "items": [[0, 1, 0, 0]]}]}`,
		`{"tasks": [{}], "machines": [{}], "runs": [{"machine": 0, "items": [[0, 1, 99, 0]]}]}`,
	} {
		if _, err := ReadRecording(strings.NewReader(text)); err == nil {
			t.Errorf("%s was accepted", text)
		}
	}
}
