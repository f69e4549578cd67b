package main

import (
	"hash/fnv"
	"math"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
)

// class is a kind of files of a project; tasks read all files of a class or none.
type class int

const (
	sources class = iota
	tests
	docs
	schemas
	logs
	classes // how many there are
)

var classDirs = [classes]string{"src", "test", "docs", "schema", "log"}

// task is what the simulation knows of a task.
type task struct {
	addr, project string
	owner         int // the index of its project
	reads         []class
	after, before []int // dependencies and dependents, by index
	outputs       bool
	shareable     bool
	reports       bool
	seconds       float64 // how long it runs at a place of usual speed
	bytes         int64   // of its outputs
	upstream      []int   // its dependencies, transitively, and itself, in order
}

// project is what the simulation knows of a project.
type project struct {
	name  string
	tasks []int
	files [classes][]string
}

// model is the repository. Each task comes after its dependencies.
type model struct {
	declared protocol.Graph
	plain    bool // without anything to find
	tasks    []task
	projects []project
	index    map[string]int // of tasks
}

func newModel(projects int, plain bool) (*model, error) {
	m := &model{declared: layout(projects, plain), plain: plain, index: map[string]int{}}
	g, err := load(m.declared)
	if err != nil {
		return nil, err
	}
	owner := map[string]int{}
	for i, p := range g.Projects {
		owner[p.Name] = i
		m.projects = append(m.projects, project{name: p.Name, files: filesOf(p)})
	}
	for i, t := range g.Tasks {
		m.index[t.Addr()] = i
		m.tasks = append(m.tasks, m.newTask(t, owner[t.Project.Name]))
		p := &m.projects[owner[t.Project.Name]]
		p.tasks = append(p.tasks, i)
	}
	for i := range m.tasks {
		m.connect(i)
	}
	return m, nil
}

// filesOf makes up the files of a project.
func filesOf(p *graph.Project) (files [classes][]string) {
	for c, dir := range classDirs {
		ending := []string{".sk", "_test.sk", ".md", ".wire", ".txt"}[c]
		for _, word := range lastWords[:4+number(p.Name+dir)%9] {
			files[c] = append(files[c], p.Dir+"/"+dir+"/"+word+ending)
		}
	}
	files[logs] = []string{p.Dir + "/log/imports.txt"}
	return files
}

func (m *model) newTask(t *graph.Task, owner int) task {
	x := task{
		addr: t.Addr(), project: t.Project.Name, owner: owner, outputs: !t.Transparent(), shareable: t.IsShareable(),
		reports: t.Decl.Reports.Given,
	}
	for c := range classes {
		if t.ReadsFile(m.projects[owner].files[c][0]) {
			x.reads = append(x.reads, c)
		}
	}
	for _, u := range t.Dependencies {
		x.after = append(x.after, m.index[u.Addr()])
	}
	x.seconds = 1.5 * math.Exp(2.4*fraction(t.Addr()))
	if strings.HasPrefix(x.addr, "lint@") || strings.HasPrefix(x.addr, "generate@") {
		x.seconds /= 3
	}
	if x.outputs { // on the slow line, fetching them is not slower than running
		x.bytes = int64(x.seconds * slowSpeed * (0.05 + 0.5*fraction("bytes of "+t.Addr())))
	}
	if m.plain {
		return x
	}
	switch x.addr {
	case slowTask:
		x.seconds, x.bytes = 4, int64(slowSpeed*20)
	case lonelyTask:
		x.seconds = 25
	}
	return x
}

func (m *model) connect(i int) {
	t := &m.tasks[i]
	for _, u := range t.after {
		m.tasks[u].before = append(m.tasks[u].before, i)
		t.upstream = append(t.upstream, m.tasks[u].upstream...)
	}
	t.upstream = append(t.upstream, i)
	slices.Sort(t.upstream)
	t.upstream = slices.Compact(t.upstream)
}

// is tells whether a task is one with something to find.
func (m *model) is(t int, addr string) bool { return !m.plain && m.tasks[t].addr == addr }

// number returns a number that is the same for the same text.
func number(text string) int {
	h := fnv.New32a()
	h.Write([]byte(text))
	return int(h.Sum32() >> 4)
}

// fraction returns a number from 0 to 1 that is the same for the same text.
func fraction(text string) float64 { return float64(number(text)%10007) / 10007 }

// mix combines numbers to one that stands for all of them.
func mix(list ...uint64) uint64 {
	h := uint64(0x9e3779b97f4a7c15)
	for _, x := range list {
		h ^= x
		h *= 0xff51afd7ed558ccd
		h ^= h >> 32
	}
	return h
}
