package main

import (
	"fmt"
	"math"
	"path/filepath"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/company"
	"grayloft.example/grayloft/internal/core/decide"
)

const (
	daySeconds  = 86400.0
	spanSeconds = 300.0
	workdays    = 5 // of the large company; the last one is reported
	sweepDays   = 12
	people      = 2000
	tasks       = 100_000
	runners     = 500
	seed        = 20
)

// overheads are what the client takes on the machine of the benchmark: see docs/performance.md.
var overheads = company.Overheads{Run: 0.2, Task: 0.02, Restore: 0.01, RestoreRate: 500e6, Reuse: 0.0004}

var regions = []company.Region{
	{
		Name:   "harbour",
		Offset: 0,
		People: 0.4,
		Office: company.Line{Rate: 40e6, Delay: 0.01},
		Runner: company.Line{Rate: 120e6, Delay: 0.002},
	},
	{Name: "north", Offset: 2, People: 0.2, Office: company.Line{Rate: 25e6, Delay: 0.05}, Runner: company.Line{Rate: 60e6, Delay: 0.04}},
	{Name: "west", Offset: -5, People: 0.2, Office: company.Line{Rate: 25e6, Delay: 0.09}, Runner: company.Line{Rate: 60e6, Delay: 0.08}},
	{
		Name:   "far-west",
		Offset: -8,
		People: 0.1,
		Office: company.Line{Rate: 25e6, Delay: 0.14},
		Runner: company.Line{Rate: 60e6, Delay: 0.13},
	},
	{Name: "outer", Offset: 9, People: 0.1, Office: company.Line{Rate: 8e6, Delay: 0.25}, Runner: company.Line{Rate: 20e6, Delay: 0.24}},
}

// replayed is a recording with what came of it.
type replayed struct {
	Repository string
	Days       int // before what is compared
	company.Compared
}

// difference is one line of the comparison.
type difference struct {
	What                string
	Recorded, Simulated float64
}

// Part returns by how much the simulation is off, as a part of what was recorded.
func (d difference) Part() float64 { return d.Simulated/d.Recorded - 1 }

// Lines returns what is compared.
func (r replayed) Lines() []difference {
	a, b := r.Recorded, r.Simulated
	executed := func(t company.Totals) float64 {
		return float64(t.Tasks[string(decide.Ran)] + t.Tasks[string(decide.Failed)])
	}
	reused := func(t company.Totals) (n float64) {
		for _, o := range decide.Outcomes {
			if o.IsReused() {
				n += float64(t.Tasks[string(o)])
			}
		}
		return n
	}
	return []difference{
		{"seconds that runs took", a.Seconds, b.Seconds},
		{"tasks executed", executed(a), executed(b)},
		{"seconds of these", a.Work, b.Work},
		{"tasks reused", reused(a), reused(b)},
		{"tasks fetched", float64(a.Tasks[string(decide.Fetched)]), float64(b.Tasks[string(decide.Fetched)])},
		{"MB fetched", float64(a.In) / 1e6, float64(b.In) / 1e6},
	}
}

// replay replays the recordings. Of the archive, the last day is compared, and the days before
// fill the caches; the demonstration is short, so all of it is compared.
func replay(dir string) (out []replayed, all []*company.Recording, err error) {
	for _, name := range []string{"skerry-archive", "skerry"} {
		r, err := read(filepath.Join(dir, name+".json.gz"))
		if err != nil {
			return nil, nil, err
		}
		last := math.Floor(r.Runs[len(r.Runs)-1].At/daySeconds) * daySeconds
		from, days := last, int(last/daySeconds)
		if name == "skerry" {
			from, days = 0, 0
		}
		out = append(out, replayed{name, days, r.Replay(from, company.Config{Costs: overheads})})
		all = append(all, r)
	}
	return out, all, nil
}

// fitted is what the company takes from the recordings.
type fitted struct {
	Seconds, Bytes company.LogNormal
	RunsPerDay     float64
}

func fit(all []*company.Recording) (f fitted) {
	var seconds, bytes []float64
	for _, r := range all {
		for _, t := range r.Tasks {
			if t.Seconds > 0 {
				seconds = append(seconds, t.Seconds)
			}
			if t.Bytes > 0 {
				bytes = append(bytes, float64(t.Bytes))
			}
		}
	}
	f.Seconds, f.Bytes = company.Fit(seconds), company.Fit(bytes)
	// How often people run something is taken from the larger recording.
	runs, days := map[int]int{}, map[[2]int]bool{}
	for _, x := range all[0].Runs {
		if strings.HasPrefix(all[0].Machines[x.Machine].Shelf, "person/") {
			runs[x.Machine]++
			days[[2]int{x.Machine, int(x.At / daySeconds)}] = true
		}
	}
	sum := 0
	for _, n := range runs {
		sum += n
	}
	f.RunsPerDay = float64(sum) / float64(max(1, len(days)))
	return f
}

// of returns the company, or a smaller one of the same kind.
func (f fitted) of(part float64) company.Company {
	return company.Company{
		Seed: seed, Tasks: int(tasks * part), People: int(people * part), Runners: int(runners * part), RunsPerDay: f.RunsPerDay,
		Regions: regions, Seconds: f.Seconds, Bytes: f.Bytes,
	}
}

// played is a simulation that has ended.
type played struct {
	*company.Demand
	Held int64
}

func play(c company.Company, days int, with company.Config) played {
	with.Costs = overheads
	d := &company.Demand{Each: spanSeconds, Regions: len(c.Regions)}
	w := company.People(c, days, with, d)
	w.Play(float64(days) * daySeconds)
	return played{d, w.Held()}
}

// Last returns the last working day as one span.
func (p played) Last() company.Span { return p.day(workdays - 1) }

func (p played) day(n int) company.Span { return p.Sum(float64(n)*daySeconds, float64(n+1)*daySeconds) }

// point is a point of a sweep.
type point struct {
	X    float64 // the quota in GB, or days
	Hits float64 // part of what was sought
	Work float64 // seconds of tasks that ran, on the last day, against the best
}

// simulated is everything that the report says.
type simulated struct {
	Replays  []replayed
	Fitted   fitted
	Costs    company.Costs
	Day      played // the large company
	NoClaims played
	NoShared played
	// The same company, whose tasks take ten times as long.
	Long, LongNoClaims played
	Keep               []point
	Quota              []point
	Unbound            int64 // bytes that the small company's cache held without limits
}

// simulate runs everything, two simulations at a time.
func simulate(dir string) (*simulated, error) {
	s := &simulated{}
	if err := readJSON(filepath.Join(dir, "costs.json"), &s.Costs); err != nil {
		return nil, err
	}
	var recordings []*company.Recording
	var err error
	if s.Replays, recordings, err = replay(filepath.Join(dir, "recorded")); err != nil {
		return nil, err
	}
	s.Fitted = fit(recordings)
	fmt.Printf("people run something %.1f times a day; a task takes %.1f s in the middle, its outputs %.2f MB\n",
		s.Fitted.RunsPerDay, math.Exp(s.Fitted.Seconds.Mean), math.Exp(s.Fitted.Bytes.Mean)/1e6)
	unbound := play(s.Fitted.of(0.1), sweepDays, company.Config{})
	s.Unbound = unbound.Held
	s.Keep, s.Quota = make([]point, len(keepDays)), make([]point, len(quotaParts))
	var wg sync.WaitGroup
	two := make(chan struct{}, 2)
	do := func(f func()) {
		wg.Go(func() {
			two <- struct{}{}
			f()
			<-two
			fmt.Print(".")
		})
	}
	do(func() { s.Day = play(s.Fitted.of(1), workdays, company.Config{}) })
	do(func() { s.NoClaims = play(s.Fitted.of(1), workdays, company.Config{NoClaims: true}) })
	do(func() { s.NoShared = play(s.Fitted.of(1), workdays, company.Config{NoShared: true}) })
	long := s.Fitted
	long.Seconds.Mean += math.Log(10)
	do(func() { s.Long = play(long.of(1), workdays, company.Config{}) })
	do(func() { s.LongNoClaims = play(long.of(1), workdays, company.Config{NoClaims: true}) })
	for n, days := range keepDays {
		do(func() {
			s.Keep[n] = pointOf(days, play(s.Fitted.of(0.1), sweepDays, company.Config{Keep: days * daySeconds}), unbound)
		})
	}
	for n, part := range quotaParts {
		do(func() {
			quota := int64(part * float64(unbound.Held))
			s.Quota[n] = pointOf(float64(quota)/1e9, play(s.Fitted.of(0.1), sweepDays, company.Config{Quota: quota}), unbound)
		})
	}
	wg.Wait()
	fmt.Println()
	return s, nil
}

var (
	keepDays   = []float64{0.25, 0.5, 1, 2, 4, 8}
	quotaParts = []float64{0.02, 0.05, 0.1, 0.2, 0.4, 0.8}
)

func pointOf(x float64, p, best played) point {
	a, b := p.day(sweepDays-1), best.day(sweepDays-1)
	return point{x, a.Totals.HitRate(), a.Totals.Work / b.Totals.Work}
}
