// Package past adds up the remembered runs of this checkout to what `stats` and
// `advise` show when there is no service: the same answers, about this machine
// alone. It takes runs and a graph, and returns values.
package past

import (
	"cmp"
	"path"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/protocol"
)

// History is the remembered runs of a checkout.
type History struct {
	Runs  []checkout.PastRun // newest first
	Graph *graph.Graph
	Place string
	Now   time.Time
}

// since returns the moment a number of weeks ago.
func (h History) since(weeks int) time.Time { return h.Now.AddDate(0, 0, -7*weeks) }

// each calls f with every outcome of a number of weeks, oldest first.
func (h History) each(weeks int, f func(run checkout.PastRun, t checkout.PastTask)) (runs int) {
	for _, r := range slices.Backward(h.Runs) {
		if r.At.Before(h.since(weeks)) {
			continue
		}
		runs++
		for _, t := range r.Tasks {
			f(r, t)
		}
	}
	return runs
}

// Tasks lists tasks with what happened to them here, those that took most time
// first.
func (h History) Tasks(weeks int) protocol.TaskPage {
	page := protocol.TaskPage{Since: h.since(weeks).UTC(), Weeks: weeks, Tasks: []protocol.TaskRow{}}
	rows := map[string]*protocol.TaskRow{}
	h.each(weeks, func(run checkout.PastRun, t checkout.PastTask) {
		row := rows[t.Task]
		if row == nil {
			row = &protocol.TaskRow{Task: t.Task, Trend: make([]float64, weeks)}
			_, row.Project, _ = strings.Cut(t.Task, "@")
			rows[t.Task] = row
		}
		row.Settled++
		switch t.Outcome {
		case "ran", "failed":
			row.Executed++
			row.RunSeconds += t.Seconds
			week := min(weeks-1, max(0, int(run.At.Sub(page.Since).Hours()/(7*24))))
			row.Trend[week] += t.Seconds
			if t.Outcome == "failed" {
				row.Failed++
			}
			if t.SameOutputs != nil && *t.SameOutputs {
				row.SameOutputs++
			}
		case "cached", "restored", "fetched":
			row.Reused++
			row.SavedSeconds += t.Saved
		}
		row.FetchSeconds += t.FetchSeconds
		row.BytesIn += t.BytesIn
	})
	for _, row := range rows {
		if row.Executed > 0 {
			row.MeanSeconds = row.RunSeconds / float64(row.Executed)
		}
		if n := row.Executed + row.Reused; n > 0 {
			rate := float64(row.Reused) / float64(n)
			row.HitRate = &rate
		}
		if t := h.Graph.Task(row.Task); t != nil {
			row.At, row.Owner = t.Pos.At(), t.Project.Owner
		}
		page.Tasks = append(page.Tasks, *row)
	}
	slices.SortFunc(page.Tasks, func(a, b protocol.TaskRow) int {
		return cmp.Or(cmp.Compare(b.RunSeconds, a.RunSeconds), cmp.Compare(a.Task, b.Task))
	})
	page.Total = len(page.Tasks)
	return page
}

// Advise returns the findings that this machine's history supports.
func (h History) Advise(weeks int) protocol.AdvicePage {
	page := protocol.AdvicePage{Since: h.since(weeks).UTC(), Weeks: weeks, Causes: []protocol.CauseRow{}}
	c := collector{
		tasks:  map[string]*advice.Task{},
		keys:   map[string]map[string]*advice.Unstable{},
		causes: map[string]map[string]*advice.Cause{},
		place:  h.Place,
	}
	page.Runs = h.each(weeks, c.add)
	in := advice.Input{Weeks: float64(weeks)}
	for _, name := range c.names() {
		t := c.task(name)
		t.Declared = advice.DeclaredIn(h.Graph, name)
		in.Tasks = append(in.Tasks, *t)
	}
	page.Findings = advice.Find(in, advice.Defaults)
	return page
}

// collector adds up outcomes.
type collector struct {
	tasks  map[string]*advice.Task
	keys   map[string]map[string]*advice.Unstable // by task and key
	causes map[string]map[string]*advice.Cause    // by task and path
	place  string
}

func (c *collector) of(name string) *advice.Task {
	t := c.tasks[name]
	if t == nil {
		t = &advice.Task{Name: name, Places: []advice.Place{{Name: c.place}}}
		c.tasks[name] = t
		c.keys[name], c.causes[name] = map[string]*advice.Unstable{}, map[string]*advice.Cause{}
	}
	return t
}

func (c *collector) add(run checkout.PastRun, t checkout.PastTask) {
	p := &c.of(t.Task).Places[0]
	switch t.Outcome {
	case "ran":
		p.Run.Add(advice.Bucket(t.Seconds), 1, t.Seconds)
		c.rerun(t)
	case "fetched":
		p.Fetch.Add(advice.Bucket(t.Seconds), 1, t.Seconds)
		p.FetchBytes, p.FetchTook = p.FetchBytes+t.BytesIn, p.FetchTook+t.Seconds
	}
	c.execution(run, t)
}

// execution notes whether a key passed or failed, and its outputs.
func (c *collector) execution(run checkout.PastRun, t checkout.PastTask) {
	if t.Outcome != "ran" && t.Outcome != "failed" || t.Key.IsZero() {
		return
	}
	key := t.Key.String()
	u := c.keys[t.Task][key]
	if u == nil {
		u = &advice.Unstable{}
		c.keys[t.Task][key] = u
	}
	if t.Outcome == "failed" {
		u.Failed++
		u.FailedRun = run.ID
		return
	}
	u.Passed++
	u.PassedRun = run.ID
}

// rerun notes which files made a task run again.
func (c *collector) rerun(t checkout.PastTask) {
	if t.Reason != "files" || t.SameOutputs == nil || len(t.Changed) == 0 {
		return
	}
	paths := map[string]bool{}
	for _, f := range t.Changed {
		paths[f] = true
	}
	if dir := common(t.Changed); dir != "" {
		paths[dir+"/"] = true
	}
	for p := range paths {
		x := c.causes[t.Task][p]
		if x == nil {
			x = &advice.Cause{Path: p}
			c.causes[t.Task][p] = x
		}
		x.Reruns++
		x.Seconds += t.Seconds
		if *t.SameOutputs {
			x.SameOutputs++
		}
	}
}

// common returns the deepest directory that all paths are in; "" for the root.
func common(paths []string) string {
	dir := path.Dir(paths[0])
	for _, p := range paths {
		for dir != "." && !strings.HasPrefix(p, dir+"/") {
			dir = path.Dir(dir)
		}
	}
	return strings.TrimPrefix(dir, ".")
}

func (c *collector) names() []string {
	out := []string{}
	for name := range c.tasks {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// task returns a task with its causes and unstable keys.
func (c *collector) task(name string) *advice.Task {
	t := c.tasks[name]
	for _, u := range c.keys[name] {
		if u.Passed > 0 && u.Failed > 0 {
			t.Unstable = append(t.Unstable, *u)
		}
	}
	slices.SortFunc(t.Unstable, func(a, b advice.Unstable) int { return cmp.Compare(b.FailedRun, a.FailedRun) })
	for _, x := range c.causes[name] {
		t.Causes = append(t.Causes, *x)
	}
	slices.SortFunc(t.Causes, func(a, b advice.Cause) int { return cmp.Compare(a.Path, b.Path) })
	return t
}
