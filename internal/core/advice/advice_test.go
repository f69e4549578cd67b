package advice_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/advice"
)

// world is a made-up stretch of time: tasks without any regularity, and those
// that a test plants.
type world struct {
	rnd *rand.Rand
	in  advice.Input
}

var places = []string{"harbour", "office", "island"}

// newWorld makes tasks that fetch faster than they run, whose files matter, that
// are stable, shared, and short compared with their runs.
func newWorld(seed uint64, tasks int) *world {
	w := &world{rnd: rand.New(rand.NewPCG(seed, 77)), in: advice.Input{Weeks: 13, WorkedRuns: 400}}
	for i := range tasks {
		t := advice.Task{
			Name: fmt.Sprintf("task%d@project%d", i, i%40),
			Declared: advice.Declared{
				At: fmt.Sprintf("libs/p%d/loft.toml:%d", i%40, i), Reuse: "auto", HasProbes: true, HasWrites: true, ReadsAt: "libs/loft.toml:9",
			},
			Repeated: w.rnd.Float64() * 300, CriticalRuns: w.rnd.IntN(150), CriticalPart: w.rnd.Float64() * 20,
		}
		base := math.Exp(w.rnd.NormFloat64() + 1)
		for _, p := range places {
			place := advice.Place{Name: p}
			w.fill(&place.Run, w.rnd.IntN(60), base)
			w.fill(&place.Fetch, w.rnd.IntN(60), base*0.3)
			place.FetchTook, place.FetchBytes = place.Fetch.Sum, int64(place.Fetch.Sum*1e6)
			t.Places = append(t.Places, place)
		}
		for c := range w.rnd.IntN(6) {
			n := 1 + w.rnd.IntN(40)
			t.Causes = append(t.Causes, advice.Cause{
				Path: fmt.Sprintf("libs/p%d/src/f%d.go", i%40, c), Reruns: n, SameOutputs: w.rnd.IntN(1 + int(0.8*float64(n))), Seconds: base * float64(n),
			})
		}
		if w.rnd.IntN(3) == 0 {
			t.Misses = append(t.Misses, advice.Miss{Place: "office", Other: "harbour", Kind: "probe", Name: "go", N: w.rnd.IntN(3), Seconds: 3})
		}
		w.in.Tasks = append(w.in.Tasks, t)
	}
	return w
}

// fill adds durations around a median.
func (w *world) fill(s *advice.Samples, n int, median float64) {
	for range n {
		d := median * math.Exp(0.25*w.rnd.NormFloat64())
		s.Add(advice.Bucket(d), 1, d)
	}
}

func found(list []advice.Finding) []string {
	out := []string{}
	for _, f := range list {
		out = append(out, strings.TrimSuffix(string(f.Kind)+" "+f.Task+" "+f.Place, " "))
	}
	slices.Sort(out)
	return out
}

func TestWithoutARegularityTheAdviceIsSilent(t *testing.T) {
	for seed := range uint64(20) {
		if got := advice.Find(newWorld(seed, 300).in, advice.Defaults); len(got) != 0 {
			t.Errorf("seed %d: %v %+v", seed, found(got), got[0])
		}
	}
}

func TestEachPlantedRegularityIsFoundAndNothingElse(t *testing.T) {
	for seed := range uint64(20) {
		w := newWorld(1000+seed, 300)
		at := w.rnd.Perm(300)[:9]
		task := func(i int) *advice.Task { return &w.in.Tasks[at[i]] }

		slow := &task(0).Places[1] // the office has a slow line
		slow.Run, slow.Fetch = advice.Samples{}, advice.Samples{}
		w.fill(&slow.Run, 30, 4)
		w.fill(&slow.Fetch, 30, 9)
		slow.FetchTook, slow.FetchBytes = slow.Fetch.Sum, 1e8

		everywhere := task(1)
		for i := range everywhere.Places {
			p := &everywhere.Places[i]
			p.Run, p.Fetch = advice.Samples{}, advice.Samples{}
			w.fill(&p.Run, 10, 0.5)
			w.fill(&p.Fetch, 10, 4)
			p.FetchTook = p.Fetch.Sum
		}

		task(2).Causes = append(task(2).Causes, advice.Cause{Path: "docs/changes.md", Reruns: 20, SameOutputs: 19, Seconds: 100})
		task(3).Causes = append(task(3).Causes,
			advice.Cause{Path: "assets/", Reruns: 30, SameOutputs: 30, Seconds: 100}, advice.Cause{Path: "assets/a.png", Reruns: 14, SameOutputs: 14},
			advice.Cause{Path: "assets/b.png", Reruns: 16, SameOutputs: 16})
		task(4).Unstable = []advice.Unstable{{Passed: 2, Failed: 1, Listings: 1, PassedRun: "p", FailedRun: "f", Tests: []string{"TestFog"}}}
		task(5).Unstable = []advice.Unstable{{Passed: 2, Listings: 2, PassedRun: "p", OtherRun: "o"}}
		task(6).CriticalRuns, task(6).CriticalPart, task(6).CriticalTook = 300, 120, 50
		task(7).Repeated, task(7).Declared.HasProbes = 13*61, false
		task(8).Misses = []advice.Miss{{Place: "office", Other: "harbour", Kind: "probe", Name: "go", N: 3, Seconds: 60, Run: "m"}}

		want := []string{
			"not-worth-sharing " + task(0).Name + " office", "reruns-for-nothing " + task(2).Name, "reruns-for-nothing " + task(3).Name,
			"flaky " + task(4).Name, "not-reproducible " + task(5).Name, "long-pole " + task(6).Name, "never-shared " + task(7).Name,
			"places-differ " + task(8).Name + " office",
		}
		for _, p := range places {
			want = append(want, "not-worth-sharing "+task(1).Name+" "+p)
		}
		slices.Sort(want)
		got := advice.Find(w.in, advice.Defaults)
		if !slices.Equal(found(got), want) {
			t.Fatalf("seed %d:\ngot  %v\nwant %v", seed, found(got), want)
		}
		for _, f := range got {
			if f.At == "" || f.Change == "" || len(f.Evidence) == 0 {
				t.Errorf("%s has no line, change or evidence: %+v", f.Kind, f)
			}
			local := strings.Contains(f.Change, `reuse = "local"`)
			if f.Kind == advice.NotWorthSharing && local != (f.Task == everywhere.Name) {
				t.Errorf("%s at %s: %s", f.Task, f.Place, f.Change)
			}
			if f.Task == task(3).Name && !strings.Contains(f.Change, "assets/**") {
				t.Errorf("the directory is not named: %s", f.Change)
			}
			if f.Kind == advice.Flaky && !slices.Equal(f.Tests, []string{"TestFog"}) {
				t.Errorf("tests: %v", f.Tests)
			}
		}
	}
}

// A file that is nearly the whole of its directory is named instead of it.
func TestOneFileIsNamedRatherThanItsDirectory(t *testing.T) {
	task := advice.Task{
		Name: "a@b", Declared: advice.Declared{At: "x:1", HasProbes: true, HasWrites: true},
		Causes: []advice.Cause{
			{Path: "docs/", Reruns: 21, SameOutputs: 21}, {Path: "docs/changes.md", Reruns: 20, SameOutputs: 20}, {Path: "docs/other.md", Reruns: 1, SameOutputs: 1},
		},
	}
	got := advice.Find(advice.Input{Tasks: []advice.Task{task}}, advice.Defaults)
	if len(got) != 1 || !strings.Contains(got[0].Says, "docs/changes.md") {
		t.Errorf("%+v", got)
	}
}

// The outputs of a task that has none are always the same: that is no finding.
func TestTheOutputsOfATestSayNothing(t *testing.T) {
	task := advice.Task{
		Name: "test@b", Declared: advice.Declared{At: "x:1", HasProbes: true, HasWrites: true, WritesNothing: true},
		Causes: []advice.Cause{{Path: "src/a.go", Reruns: 30, SameOutputs: 30}},
	}
	if got := advice.Find(advice.Input{Tasks: []advice.Task{task}}, advice.Defaults); len(got) != 0 {
		t.Errorf("%+v", got)
	}
}

// Nobody can change what is not declared any more, and what is declared as local
// is not shared anyway.
func TestWhatCannotBeChangedIsNotAdvised(t *testing.T) {
	w := newWorld(3, 1)
	task := &w.in.Tasks[0]
	for i := range task.Places {
		p := &task.Places[i]
		p.Run, p.Fetch = advice.Samples{}, advice.Samples{}
		w.fill(&p.Run, 10, 1)
		w.fill(&p.Fetch, 10, 9)
	}
	if got := advice.Find(w.in, advice.Defaults); len(got) != 3 {
		t.Fatalf("%v", found(got))
	}
	task.Declared.Reuse = "local"
	if got := advice.Find(w.in, advice.Defaults); len(got) != 0 {
		t.Errorf("local: %v", found(got))
	}
	task.Declared = advice.Declared{}
	if got := advice.Find(w.in, advice.Defaults); len(got) != 0 {
		t.Errorf("not declared: %v", found(got))
	}
}

func TestAMedianIsRightWithinNinePercent(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 5))
	for range 200 {
		var s advice.Samples
		var all []float64
		for range 1 + rnd.IntN(200) {
			d := 0.001 * math.Exp(rnd.Float64()*15)
			all = append(all, d)
			s.Add(advice.Bucket(d), 1, d)
		}
		slices.Sort(all)
		want := all[(len(all)-1)/2]
		if got := s.Median(); got < want/1.095 || got > want*1.095 {
			t.Errorf("%d samples: %f, want %f", len(all), got, want)
		}
	}
}
