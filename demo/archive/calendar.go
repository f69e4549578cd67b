package main

import (
	"encoding/base32"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

var names = strings.Fields(`aldis brenna corin dagny eskil freya gunnar hilde isla jorun kettil lorna magnus nessa oskar petra
	quill runa sten tove ulf vesla wyn yrsa arlo birgit calder dora einar fenna gorm hanne ivar jessa kolb linnet marit niall oda piers`)

// plan is how much happens.
type plan struct {
	seed   uint64
	runs   int
	days   int
	until  time.Time
	people int
}

// office is everyone.
type office struct {
	*world
	plan
	people []*actor
	ci     *actor // builds main
	lanes  *actor // builds branches
	left   int    // runs
	number int    // of changes
}

func newOffice(m *model, p plan, out func(*run) error) *office {
	rnd := rand.New(rand.NewPCG(p.seed, 1))
	o := &office{world: &world{m: m, main: newWorkspace(m), cache: newCache(m), rnd: rnd, out: out}, plan: p, left: p.runs}
	o.ci = &actor{name: "ci", host: "runner-1", place: places[0], jobs: 16, work: newWorkspace(m), fresh: true, branch: "main", shelf: trusted}
	o.lanes = &actor{name: "ci-branches", host: "runner-2", place: places[0], jobs: 8, work: newWorkspace(m), fresh: true}
	for i, name := range names[:min(p.people, len(names))] {
		a := &actor{
			name: name, host: name + "-desk", place: places[1+i*7%10*4/10], jobs: 4 + i%3*2, work: newWorkspace(m),
			local: map[uint64]*entry{}, shelf: "person/" + name,
		}
		for range 4 {
			a.focus = append(a.focus, rnd.IntN(len(m.projects)))
		}
		o.people = append(o.people, a)
	}
	return o
}

// event is a moment in a day at which somebody works.
type event struct {
	at  time.Time
	who *actor
}

// year plays all days. The runs of a day are as many as are left for it.
func (o *office) year() error {
	first := o.until.UTC().Truncate(24*time.Hour).AddDate(0, 0, -o.days)
	for d := range o.days {
		day := first.AddDate(0, 0, d)
		if err := o.night(day); err != nil {
			return err
		}
		for _, e := range o.dayOf(day, o.days-d) {
			if o.left <= 0 || e.at.After(o.until) {
				break
			}
			if err := o.work(e.who, e.at); err != nil {
				return err
			}
		}
		o.cache.endDay(day.Add(24 * time.Hour))
	}
	return nil
}

func isWeekend(day time.Time) bool {
	return day.Weekday() == time.Saturday || day.Weekday() == time.Sunday
}

// dayOf returns when people work on a day. About every fourth of them ends with
// a merge, which makes two runs more.
func (o *office) dayOf(day time.Time, daysLeft int) (events []event) {
	n := float64(o.left) / (float64(daysLeft) * 5.3 / 7) / 1.65
	if isWeekend(day) {
		n *= 0.15
	}
	for range int(n) {
		who := o.people[o.rnd.IntN(len(o.people))]
		hour := 8 + 4*o.rnd.Float64() + 6*o.rnd.Float64()
		events = append(events, event{day.Add(time.Duration(hour * float64(time.Hour))), who})
	}
	slices.SortFunc(events, func(a, b event) int { return a.at.Compare(b.at) })
	return events
}

// night runs everything on main; on Sundays without reusing anything.
func (o *office) night(day time.Time) error {
	all := make([]int, len(o.m.tasks))
	for i := range all {
		all[i] = i
	}
	o.ci.work.take(o.main)
	r := o.begin(o.ci, day.Add(2*time.Hour), []string{"all"})
	r.noReuse = day.Weekday() == time.Sunday
	return o.play(r, all)
}

// begin returns a new run.
func (o *office) begin(a *actor, at time.Time, requested []string) *run {
	o.left--
	return &run{
		id: o.runID(at), began: at.Truncate(time.Millisecond), by: a, place: a.place, branch: a.branch, shelf: a.shelf, commit: a.work.commit,
		requested: requested, jobs: a.jobs,
	}
}

// runID returns a version 7 UUID (RFC 9562) of a moment, in base 32.
func (o *office) runID(at time.Time) string {
	var id uuid.UUID
	for i := range id {
		id[i] = byte(o.rnd.Uint32())
	}
	for i := range 6 {
		id[i] = byte(at.UnixMilli() >> (40 - 8*i))
	}
	id[6], id[8] = id[6]&0x0f|0x70, id[8]&0x3f|0x80
	return strings.ToLower(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString(id[:]))
}

// work is what a person does at a moment: edit something, run what it affects,
// and now and then merge it.
func (o *office) work(a *actor, at time.Time) error {
	if len(a.work.pending) == 0 || o.rnd.IntN(6) == 0 { // else what is begun goes on
		a.work.take(o.main)
		a.branch = fmt.Sprintf("%s/%s-%d", a.name, lastWords[o.rnd.IntN(len(lastWords))], at.YearDay())
	}
	if o.rnd.IntN(12) == 0 { // at another desk today
		a.place = places[1+o.rnd.IntN(len(places)-1)]
	}
	p := o.someProject(a)
	o.edit(a.work, p)
	ok, err := o.try(a, at, p)
	for again := 0; err == nil && !ok && again < 2; again++ {
		at = at.Add(4 * time.Minute)
		if o.rnd.IntN(2) == 0 { // the others only try again
			o.edit(a.work, p)
		}
		ok, err = o.try(a, at, p)
	}
	if err != nil || !ok || o.rnd.IntN(4) > 0 {
		return err
	}
	return o.deliver(a, at.Add(10*time.Minute), p)
}

func (o *office) try(a *actor, at time.Time, p int) (ok bool, err error) {
	r := o.begin(a, at, []string{"affected"})
	err = o.play(r, o.affected(p, 75, 5))
	return r.ok, err
}

// someProject returns a project that somebody changes: one of their own, or one
// that everybody changes.
func (o *office) someProject(a *actor) int {
	if o.rnd.IntN(3) == 0 {
		name := busy[o.rnd.IntN(len(busy))]
		return slices.IndexFunc(o.m.projects, func(p project) bool { return p.name == name })
	}
	if o.rnd.IntN(40) == 0 { // on to something else
		a.focus[o.rnd.IntN(len(a.focus))] = o.rnd.IntN(len(o.m.projects))
	}
	return a.focus[o.rnd.IntN(len(a.focus))]
}

func (o *office) edit(w *workspace, p int) {
	c := []class{sources, sources, sources, sources, tests, tests, docs, schemas}[o.rnd.IntN(8)]
	if !o.m.plain && o.m.projects[p].name == "fare-rates" && o.rnd.IntN(3) > 0 {
		c = logs
	}
	files := o.m.projects[p].files[c]
	o.number++
	x := pending{p, edit{c, files[o.rnd.IntN(len(files))]}, uint64(o.number), o.rnd.IntN(4) == 0}
	w.change(x.project, x.edit, x.version, x.cosmetic)
	w.pending = append(w.pending, x)
}

// deliver builds a branch, and main after the merge.
func (o *office) deliver(a *actor, at time.Time, p int) error {
	projects := []int{p}
	for _, x := range a.work.pending {
		if !slices.Contains(projects, x.project) {
			projects = append(projects, x.project)
		}
	}
	var targets []int
	for _, p := range projects {
		targets = append(targets, o.affected(p, 110, 9)...)
	}
	slices.Sort(targets)
	targets = slices.Compact(targets)
	if o.rnd.IntN(2) == 0 {
		l := o.lanes
		saved := l.work
		l.work, l.branch, l.shelf = a.work.forRunner(), a.branch, "branch/"+a.branch
		err := o.play(o.begin(l, at, []string{"affected"}), targets)
		if l.work = saved; err != nil {
			return err
		}
	}
	a.work.merge(o.main)
	o.ci.work.take(o.main)
	return o.play(o.begin(o.ci, at.Add(15*time.Minute), []string{"affected"}), targets)
}

// affected returns tasks of a project, and of projects that depend on it.
func (o *office) affected(p, most, perProject int) (targets []int) {
	seen := map[int]bool{}
	todo := []int{p}
	for len(todo) > 0 && len(targets) < most {
		p := todo[0]
		todo = todo[1:]
		if seen[p] {
			continue
		}
		seen[p] = true
		for n, i := range o.m.projects[p].tasks {
			if n < perProject || len(targets) == 0 || o.m.projects[p].tasks[0] == i {
				targets = append(targets, i)
			}
			for _, d := range o.m.tasks[i].before {
				todo = append(todo, o.m.tasks[d].owner)
			}
		}
	}
	return targets
}
