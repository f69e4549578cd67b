package company

import (
	"container/heap"
	"math"
	"math/rand/v2"
	"slices"
)

// LogNormal is a distribution of durations or sizes: that of numbers whose logarithm is
// normal.
type LogNormal struct{ Mean, Deviation float64 } // of the logarithm

// Fit returns the distribution that fits positive samples.
func Fit(samples []float64) LogNormal {
	var sum, squares float64
	for _, x := range samples {
		sum += math.Log(x)
		squares += math.Log(x) * math.Log(x)
	}
	n := float64(max(1, len(samples)))
	return LogNormal{sum / n, math.Sqrt(max(0, squares/n-sum/n*sum/n))}
}

func (l LogNormal) draw(rnd *rand.Rand) float64 {
	return math.Exp(l.Mean + l.Deviation*rnd.NormFloat64())
}

// class is a kind of files of a project; tasks read all files of a class or none.
type class int

const (
	sources class = iota
	tests
	texts
	schemas
	classes // how many there are
)

// kinds are the tasks of each project: what they read, and whether they come after the
// project's build or after that of the projects that it needs.
var kinds = []struct {
	reads              []class
	afterOwn, afterAll bool
	outputs            bool
}{
	{reads: []class{sources, schemas}, afterAll: true, outputs: true}, // build
	{reads: []class{sources, tests}, afterOwn: true},                  // test
	{reads: []class{sources, tests}},                                  // lint
	{reads: []class{texts}, outputs: true},                            // docs
	{afterOwn: true, outputs: true},                                   // package
}

const (
	areaSize     = 50   // projects of a team
	platformPart = 0.15 // of projects need something of the first area
)

// repository is a made-up one, and how its main branch changed.
type repository struct {
	tasks   []*Task
	version int // of the main branch
	content [][]contentAt
	results [][]resultAt // of each task
	mark    []int        // used by walks
	marked  int
}

// contentAt is what the files of a project were from a version on: each class as a number, and
// the same without what makes no difference to outputs.
type contentAt struct {
	version          int
	content, meaning [classes]Key
}

// resultAt is what follows for a task: its key, and what its outputs are.
type resultAt struct {
	version      int
	key, outputs Key
}

func newRepository(tasks int, seconds, bytes LogNormal, rnd *rand.Rand) *repository {
	projects := tasks / len(kinds)
	r := &repository{content: make([][]contentAt, projects), mark: make([]int, projects*len(kinds))}
	for p := range projects {
		r.content[p] = []contentAt{{}}
		needs := needsOf(p, rnd)
		for k, kind := range kinds {
			var after []int
			if kind.afterAll {
				for _, q := range needs {
					after = append(after, q*len(kinds))
				}
			}
			if kind.afterOwn {
				after = append(after, p*len(kinds))
			}
			t := newTask(p*len(kinds)+k, after, r.tasks)
			t.Seconds, t.Shareable = seconds.draw(rnd), true
			if kind.outputs {
				t.Bytes = int64(bytes.draw(rnd))
			}
			r.tasks = append(r.tasks, t)
		}
	}
	r.results = make([][]resultAt, len(r.tasks))
	at := &view{repo: r}
	for i := range r.tasks {
		r.results[i] = []resultAt{at.compute(i)}
	}
	return r
}

// needsOf returns what a project needs: earlier projects of its area, and of the first one.
func needsOf(p int, rnd *rand.Rand) (needs []int) {
	if inArea := p % areaSize; inArea > 0 {
		for range rnd.IntN(4) {
			needs = append(needs, p-1-rnd.IntN(inArea))
		}
	}
	if p >= areaSize && rnd.Float64() < platformPart {
		needs = append(needs, int(areaSize*math.Pow(rnd.Float64(), 3)))
	}
	slices.Sort(needs)
	return slices.Compact(needs)
}

// follow visits tasks and, where asked to, what depends on them, each after its dependencies.
func (r *repository) follow(from []int, on func(i int) bool) {
	r.marked++
	todo := ints(slices.Clone(from))
	heap.Init(&todo)
	for _, i := range from {
		r.mark[i] = r.marked
	}
	for len(todo) > 0 {
		i := heap.Pop(&todo).(int)
		if !on(i) {
			continue
		}
		for _, u := range r.tasks[i].Dependents {
			if r.mark[u.Index] != r.marked {
				r.mark[u.Index] = r.marked
				heap.Push(&todo, u.Index)
			}
		}
	}
}

// ints is a heap.
type ints []int

func (s ints) Len() int           { return len(s) }
func (s ints) Less(i, j int) bool { return s[i] < s[j] }
func (s ints) Swap(i, j int)      { s[i], s[j] = s[j], s[i] }
func (s *ints) Push(x any)        { *s = append(*s, x.(int)) }
func (s *ints) Pop() any {
	last := len(*s) - 1
	x := (*s)[last]
	*s = (*s)[:last]
	return x
}
