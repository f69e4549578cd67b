package company

import "slices"

// edit is a change of one class of files of a project.
type edit struct {
	project  int
	class    class
	version  Key
	cosmetic bool // it makes no difference to outputs
}

// view is a working copy: a version of the main branch, with edits.
type view struct {
	repo    *repository
	base    int
	edits   []edit
	content map[int]contentAt
	results map[int]resultAt
}

func (v *view) contentOf(p int) contentAt {
	if c, ok := v.content[p]; ok {
		return c
	}
	return before(v.repo.content[p], v.base, func(c contentAt) int { return c.version })
}

func (v *view) resultOf(i int) resultAt {
	if x, ok := v.results[i]; ok {
		return x
	}
	return before(v.repo.results[i], v.base, func(x resultAt) int { return x.version })
}

// before returns the last one of a version, or of those before it.
func before[T any](list []T, version int, of func(T) int) T {
	n := len(list) - 1
	for n > 0 && of(list[n]) > version {
		n--
	}
	return list[n]
}

// compute returns the result of a task as it follows from its files and its dependencies.
func (v *view) compute(i int) resultAt {
	kind := kinds[i%len(kinds)]
	c := v.contentOf(i / len(kinds))
	x := resultAt{version: v.base, key: Key(i + 1), outputs: Key(i + 1)}
	for _, class := range kind.reads {
		x.key, x.outputs = mix(x.key, c.content[class]), mix(x.outputs, c.meaning[class])
	}
	for _, u := range v.repo.tasks[i].Dependencies {
		o := v.resultOf(u.Index).outputs
		x.key, x.outputs = mix(x.key, o), mix(x.outputs, o)
	}
	if !kind.outputs {
		x.outputs = 1
	}
	return x
}

// mix combines two numbers to one that stands for both.
func mix(a, b Key) Key {
	h := (a ^ 0x9e3779b97f4a7c15) * 0xff51afd7ed558ccd
	h = (h ^ h>>32 ^ b) * 0xc4ceb9fe1a85ec53
	return h ^ h>>29
}

// take makes the working copy that of the newest version, without edits.
func (v *view) take() {
	v.base, v.edits, v.content, v.results = v.repo.version, nil, map[int]contentAt{}, map[int]resultAt{}
}

// change edits files.
func (v *view) change(e edit) {
	v.edits = append(v.edits, e)
	c := v.contentOf(e.project)
	c.content[e.class] = mix(c.content[e.class], e.version)
	if !e.cosmetic {
		c.meaning[e.class] = mix(c.meaning[e.class], e.version)
	}
	v.content[e.project] = c
	v.repo.follow(e.reading(), func(i int) bool {
		x := v.compute(i)
		same := x.outputs == v.resultOf(i).outputs
		v.results[i] = x
		return !same
	})
}

// reading returns the tasks that read what was edited.
func (e edit) reading() (tasks []int) {
	for k, kind := range kinds {
		if slices.Contains(kind.reads, e.class) {
			tasks = append(tasks, e.project*len(kinds)+k)
		}
	}
	return tasks
}

// merge applies the edits of a working copy to the main branch.
func (v *view) merge() {
	next := &view{repo: v.repo}
	next.take()
	for _, e := range v.edits {
		next.change(e)
	}
	v.repo.version++
	for p, c := range next.content {
		c.version = v.repo.version
		v.repo.content[p] = append(v.repo.content[p], c)
	}
	for i, x := range next.results {
		x.version = v.repo.version
		v.repo.results[i] = append(v.repo.results[i], x)
	}
}

// affected returns tasks that the edits can affect, at most so many (0: all).
func (v *view) affected(most int) (targets []int) {
	var from []int
	for _, e := range v.edits {
		from = append(from, e.reading()...)
	}
	slices.Sort(from)
	v.repo.follow(slices.Compact(from), func(i int) bool {
		if most > 0 && len(targets) >= most {
			return false
		}
		targets = append(targets, i)
		return true
	})
	return targets
}

// plan returns the items of a run of some tasks.
func (v *view) plan(targets []int) []Item {
	r := v.repo
	r.marked++
	all := slices.Clone(targets)
	for _, i := range targets {
		r.mark[i] = r.marked
	}
	for n := 0; n < len(all); n++ {
		for _, u := range r.tasks[all[n]].Dependencies {
			if r.mark[u.Index] != r.marked {
				r.mark[u.Index] = r.marked
				all = append(all, u.Index)
			}
		}
	}
	picked := map[int]bool{}
	for _, i := range targets {
		picked[i] = true
	}
	slices.Sort(all)
	items := make([]Item, len(all))
	for n, i := range all {
		items[n] = Item{Task: i, Key: v.resultOf(i).key, Picked: picked[i], Seconds: r.tasks[i].Seconds, Fails: v.fails(i)}
	}
	return items
}

// oneOf is how many versions of files there are for one whose tests fail.
const oneOf = 60

// fails tells whether a task fails, as tests and linters do for some versions of files.
func (v *view) fails(i int) bool {
	kind := kinds[i%len(kinds)]
	c, edited := v.content[i/len(kinds)]
	if kind.outputs || !edited {
		return false
	}
	for _, class := range kind.reads {
		if c.content[class]%oneOf == 1 {
			return true
		}
	}
	return false
}
