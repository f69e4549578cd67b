package company

import (
	"math"
	"math/rand/v2"
	"strconv"

	"grayloft.example/grayloft/internal/core/decide"
)

// Region is where people and runners are.
type Region struct {
	Name   string
	Offset float64 // of local time, in hours
	People float64 // its part of all
	Office Line
	Runner Line
}

// Line is a line to the service.
type Line struct {
	Rate  float64 // bytes a second
	Delay float64 // seconds until an answer begins
}

// Company describes who works how.
type Company struct {
	Seed       uint64
	Tasks      int
	People     int
	Runners    int
	RunsPerDay float64 // of a person
	Regions    []Region
	Seconds    LogNormal // of tasks
	Bytes      LogNormal // of their outputs
}

// The parts of a person's days, as the archive of Skerry Lines has them.
const (
	beginsAnew   = 6   // one of so many times, something else is begun
	deliversOne  = 4   // of so many good runs
	checkedOne   = 2   // of so many deliveries has a run of its branch first
	cosmeticOne  = 4   // of so many edits makes no difference to outputs
	mostPicked   = 300 // tasks that a person runs at a time
	perMember    = 100 // tasks of a run for each machine that carries it out
	mostMembers  = 8
	personSlots  = 6
	runnerSlots  = 4
	afterFailure = 240 // seconds until somebody tries again
	toDeliver    = 600 // seconds from a good run to its delivery
)

// staff is everybody.
type staff struct {
	Company
	w      *World
	repo   *repository
	queue  []func(members int, m *Machine) // jobs that wait for runners
	wants  []int
	free   []*Machine
	people []*person
}

// person draws on numbers of its own, so that what it does hardly depends on how the others fare.
type person struct {
	*Machine
	rnd   *rand.Rand
	view  *view
	focus []int // projects
	edits int
	id    int
	busy  bool
}

// People returns a world in which people work for so many days, on weekdays from 0 on. The
// first day is a Monday.
func People(of Company, days int, c Config, d *Demand) *World {
	rnd := rand.New(rand.NewPCG(of.Seed, 1))
	repo := newRepository(of.Tasks, of.Seconds, of.Bytes, rnd)
	s := &staff{Company: of, w: New(repo.tasks, c, d), repo: repo}
	for n := range of.Runners {
		at := n % len(of.Regions)
		line := of.Regions[at].Runner
		s.free = append(
			s.free,
			&Machine{Region: at, Slots: runnerSlots, Pace: 0.8, Rate: line.Rate, Delay: line.Delay, Clean: true, Empty: true},
		)
	}
	for n := range of.People {
		s.people = append(s.people, s.newPerson(n))
	}
	for day := range days {
		if day%7 < 5 {
			s.day(float64(day) * 86400)
		}
	}
	return s.w
}

func (s *staff) newPerson(n int) *person {
	at, part := 0, (float64(n)+0.5)/float64(s.Company.People)
	for at < len(s.Regions)-1 && part > s.Regions[at].People {
		part -= s.Regions[at].People
		at++
	}
	name := "person/" + strconv.Itoa(n)
	rnd := rand.New(rand.NewPCG(s.Seed, uint64(n)+2))
	p := &person{id: n, rnd: rnd, view: &view{repo: s.repo}, Machine: &Machine{
		Region: at, Slots: personSlots, Pace: 1, Rate: s.Regions[at].Office.Rate, Delay: s.Regions[at].Office.Delay,
		Shelf: name, Reads: []string{name, "trusted"},
	}}
	p.view.take()
	area := rnd.IntN(len(s.repo.content) / areaSize)
	for range 4 {
		p.focus = append(p.focus, area*areaSize+rnd.IntN(areaSize))
	}
	return p
}

// day lets everybody work on a day that begins at a time.
func (s *staff) day(from float64) {
	for _, p := range s.people {
		for n := poisson(s.RunsPerDay, p.rnd); n > 0; n-- {
			hour := 8 + 4*p.rnd.Float64() + 6*p.rnd.Float64() - s.Regions[p.Region].Offset
			s.w.At(from+math.Mod(hour+24, 24)*3600, func() { s.work(p) })
		}
	}
}

func poisson(mean float64, rnd *rand.Rand) (n int) {
	for left := rnd.ExpFloat64(); left < mean; left += rnd.ExpFloat64() {
		n++
	}
	return n
}

// work is what a person does at a moment: edit something, and run what it affects.
func (s *staff) work(p *person) {
	if p.busy {
		return
	}
	if len(p.view.edits) == 0 || p.rnd.IntN(beginsAnew) == 0 { // else what is begun goes on
		p.view.take()
	}
	project := p.focus[p.rnd.IntN(len(p.focus))]
	p.edit(project)
	s.try(p, project, 2)
}

func (p *person) edit(project int) {
	p.edits++
	p.view.change(edit{
		project: project, version: mix(Key(p.id), Key(p.edits)), cosmetic: p.rnd.IntN(cosmeticOne) == 0,
		class: []class{sources, sources, sources, sources, tests, tests, texts, schemas}[p.rnd.IntN(8)],
	})
}

func (s *staff) try(p *person, project, again int) {
	p.busy = true
	s.w.Start(&Run{Machine: p.Machine, Items: p.view.plan(p.view.affected(mostPicked)), Done: func(r *Run) {
		p.busy = false
		switch failed := r.Totals.Tasks[string(decide.Failed)] > 0; {
		case failed && again > 0:
			s.w.After(afterFailure, func() {
				if p.rnd.IntN(2) == 0 { // the others only try again
					p.edit(project)
				}
				s.try(p, project, again-1)
			})
		case !failed && p.rnd.IntN(deliversOne) == 0:
			s.w.After(toDeliver, func() { s.deliver(p) })
		}
	}})
}

// deliver has a branch checked, merges it, and has main built.
func (s *staff) deliver(p *person) {
	if p.busy || len(p.view.edits) == 0 {
		return
	}
	branch := *p.view
	merge := func() {
		branch.merge()
		main := &view{repo: s.repo}
		main.take()
		s.job(main.plan(branch.affected(0)), "trusted", nil)
	}
	p.view = &view{repo: s.repo}
	p.view.take()
	if p.rnd.IntN(checkedOne) > 0 {
		merge()
		return
	}
	s.job(branch.plan(branch.affected(0)), "branch/"+p.Shelf, merge)
}

// job has runners carry a run out, as soon as there are any.
func (s *staff) job(items []Item, shelf string, then func()) {
	picked := 0
	for _, i := range items {
		if i.Picked {
			picked++
		}
	}
	s.wants = append(s.wants, min(mostMembers, 1+picked/perMember))
	s.queue = append(s.queue, func(members int, m *Machine) {
		m.Shelf, m.Reads = shelf, []string{shelf, "trusted"}
		taken := append([]*Machine{m}, s.free[:members-1]...)
		s.free = s.free[members-1:]
		s.w.Start(&Run{Machine: m, Slots: members * runnerSlots, Items: items, Done: func(*Run) {
			s.free = append(s.free, taken...)
			if then != nil {
				then()
			}
			s.hand()
		}})
	})
	s.hand()
}

// hand gives free runners to the jobs that wait, the first ones first.
func (s *staff) hand() {
	for len(s.queue) > 0 && len(s.free) > 0 {
		do, wants, m := s.queue[0], s.wants[0], s.free[0]
		s.queue, s.wants, s.free = s.queue[1:], s.wants[1:], s.free[1:]
		do(min(wants, len(s.free)+1), m)
	}
}
