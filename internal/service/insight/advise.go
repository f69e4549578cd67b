package insight

import (
	"context"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// Advise returns the findings about all tasks in a number of weeks, and the
// files that cause most reruns.
func (r Reader) Advise(ctx context.Context, weeks int) (protocol.AdvicePage, error) {
	page := protocol.AdvicePage{Since: sinceWeeks(r.Now, weeks), Weeks: weeks, Causes: []protocol.CauseRow{}}
	in, runs, err := taskQuery{ctx, r, 0, page.Since}.inputs(weeks)
	if err != nil {
		return page, err
	}
	page.Runs, page.Findings = runs, advice.Find(in, advice.Defaults)
	return page, r.DB.SelectContext(ctx, &page.Causes, `
		SELECT path, sum(reruns) AS reruns, sum(judged) AS judged, sum(same_outputs) AS sameoutputs, sum(seconds) AS seconds,
			count(DISTINCT task_id) AS tasks
		FROM task_causes WHERE repository_id = $1 AND week >= $2 GROUP BY 1
		ORDER BY 2 DESC, length(path) DESC, 1 LIMIT $3`, r.Repository, page.Since, shownCauses)
}

// collector adds up rollups to what the advice works with.
type collector struct {
	taskQuery
	tasks map[int64]*advice.Task
	order []int64
}

// inputs collects what happened, to all tasks or to one, and returns it with
// the number of runs.
func (q taskQuery) inputs(weeks int) (advice.Input, int, error) {
	c := collector{q, map[int64]*advice.Task{}, nil}
	in := advice.Input{Weeks: float64(weeks)}
	var runs struct {
		All    int `db:"all"`
		Worked int `db:"worked"`
	}
	if err := q.DB.GetContext(q.ctx, &runs, `
		SELECT coalesce(sum(runs), 0) AS all, coalesce(sum(worked), 0) AS worked FROM run_hours WHERE repository_id = $1 AND hour >= $2`,
		q.Repository, q.since); err != nil {
		return in, 0, err
	}
	in.WorkedRuns = runs.Worked
	for _, step := range []func() error{c.names, c.weeks, c.repeats, c.causes, c.unstable, c.misses} {
		if err := step(); err != nil {
			return in, 0, err
		}
	}
	for _, id := range c.order {
		t := c.tasks[id]
		t.Declared = advice.DeclaredIn(q.Graph, t.Name)
		in.Tasks = append(in.Tasks, *t)
	}
	return in, runs.All, nil
}

// only is the condition that selects the task, if there is one.
const only = ` AND ($2::bigint = 0 OR task_id = $2) `

func (c *collector) names() error {
	var rows []struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
	}
	err := c.DB.SelectContext(c.ctx, &rows, `
		SELECT id, name FROM tasks WHERE repository_id = $1 AND ($2::bigint = 0 OR id = $2) ORDER BY name`, c.Repository, c.task)
	for _, r := range rows {
		c.tasks[r.ID] = &advice.Task{Name: r.Name}
		c.order = append(c.order, r.ID)
	}
	return err
}

func (c *collector) weeks() error {
	if err := c.totals(); err != nil {
		return err
	}
	return c.durations()
}

// totals adds up what the tasks did at each place.
func (c *collector) totals() error {
	var rows []struct {
		Task         int64   `db:"task_id"`
		Place        string  `db:"place"`
		FetchTook    float64 `db:"fetch_took"`
		FetchBytes   int64   `db:"fetch_bytes"`
		RunTook      float64 `db:"run_took"`
		Runs         int     `db:"runs"`
		CriticalRuns int     `db:"critical_runs"`
		Critical     float64 `db:"critical"`
	}
	if err := c.rows(&rows, `
		SELECT task_id, place, coalesce(sum(seconds) FILTER (WHERE outcome = 'fetched'), 0) AS fetch_took,
			coalesce(sum(bytes_in) FILTER (WHERE outcome = 'fetched'), 0)::bigint AS fetch_bytes,
			coalesce(sum(seconds) FILTER (WHERE outcome = 'ran'), 0) AS run_took,
			coalesce(sum(n) FILTER (WHERE outcome = 'ran'), 0) AS runs, sum(critical_runs) AS critical_runs, sum(critical) AS critical
		FROM task_weeks WHERE repository_id = $1 AND week >= $3`+only+`AND outcome IN ('ran', 'failed', 'fetched', 'restored')
		GROUP BY 1, 2 ORDER BY 1, 2`); err != nil {
		return err
	}
	type sum struct {
		took float64
		n    int
	}
	ran := map[int64]sum{}
	for _, r := range rows {
		t := c.tasks[r.Task]
		t.CriticalRuns, t.CriticalPart = t.CriticalRuns+r.CriticalRuns, t.CriticalPart+r.Critical
		t.Places = append(t.Places, advice.Place{Name: r.Place, FetchBytes: r.FetchBytes, FetchTook: r.FetchTook})
		if s := (sum{ran[r.Task].took + r.RunTook, ran[r.Task].n + r.Runs}); s.n > 0 {
			ran[r.Task] = s
			t.CriticalTook = s.took / float64(s.n)
		}
	}
	return nil
}

// durations adds the histograms of all weeks to the places, which are known.
func (c *collector) durations() error {
	var rows []struct {
		Task    int64   `db:"task_id"`
		Place   string  `db:"place"`
		Fetched bool    `db:"fetched"`
		Bucket  int     `db:"bucket"`
		N       int     `db:"n"`
		Seconds float64 `db:"seconds"`
	}
	if err := c.rows(&rows, `
		SELECT task_id, place, outcome = 'fetched' AS fetched, bucket, sum(k) AS n, sum(seconds * k / n) AS seconds
		FROM task_weeks, unnest(buckets, counts) AS u (bucket, k)
		WHERE repository_id = $1 AND week >= $3`+only+`AND outcome IN ('ran', 'fetched') GROUP BY 1, 2, 3, 4 ORDER BY 1, 2`); err != nil {
		return err
	}
	for _, r := range rows {
		t := c.tasks[r.Task]
		p := &t.Places[slices.IndexFunc(t.Places, func(p advice.Place) bool { return p.Name == r.Place })]
		if r.Fetched {
			p.Fetch.Add(r.Bucket, r.N, r.Seconds)
		} else {
			p.Run.Add(r.Bucket, r.N, r.Seconds)
		}
	}
	return nil
}

func (c *collector) repeats() error {
	var rows []struct {
		Task    int64   `db:"task_id"`
		Seconds float64 `db:"seconds"`
	}
	err := c.rows(&rows, `
		SELECT task_id, sum(seconds) AS seconds FROM task_repeats WHERE repository_id = $1 AND week >= $3`+only+`GROUP BY 1`)
	for _, r := range rows {
		c.tasks[r.Task].Repeated = r.Seconds
	}
	return err
}

func (c *collector) causes() error {
	var rows []struct {
		Task    int64   `db:"task_id"`
		Path    string  `db:"path"`
		Reruns  int     `db:"reruns"`
		Same    int     `db:"same"`
		Seconds float64 `db:"seconds"`
	}
	err := c.rows(&rows, `
		SELECT task_id, path, sum(judged) AS reruns, sum(same_outputs) AS same, sum(seconds) AS seconds FROM task_causes
		WHERE repository_id = $1 AND week >= $3`+only+`GROUP BY 1, 2 HAVING sum(judged) >= $4 ORDER BY 1, 2`, advice.Defaults.Reruns)
	for _, r := range rows {
		t := c.tasks[r.Task]
		t.Causes = append(t.Causes, advice.Cause{Path: r.Path, Reruns: r.Reruns, SameOutputs: r.Same, Seconds: r.Seconds})
	}
	return err
}

func (c *collector) unstable() error {
	keys, err := c.unstableKeys()
	if err != nil {
		return err
	}
	byName := map[string]*advice.Task{}
	for _, t := range c.tasks {
		byName[t.Name] = t
	}
	for _, k := range keys {
		t := byName[k.Task]
		t.Unstable = append(t.Unstable, advice.Unstable{
			Passed: k.Passed, Failed: k.Failed, Listings: k.Listings, PassedRun: k.PassedRun, FailedRun: k.FailedRun, OtherRun: k.OtherRun,
			Tests: k.Tests,
		})
	}
	return nil
}

func (c *collector) misses() error {
	var rows []struct {
		Task    int64   `db:"task_id"`
		Place   string  `db:"place"`
		Other   string  `db:"other_place"`
		Kind    string  `db:"kind"`
		Name    string  `db:"name"`
		N       int     `db:"n"`
		Seconds float64 `db:"seconds"`
		Run     string  `db:"run"`
	}
	err := c.rows(&rows, `
		SELECT task_id, place, other_place, kind, name, count(*) AS n, sum(seconds) AS seconds, max(run_id) AS run FROM near_misses
		WHERE repository_id = $1 AND began >= $3`+only+`GROUP BY 1, 2, 3, 4, 5 ORDER BY 1, 2, 3, 4, 5`)
	for _, r := range rows {
		t := c.tasks[r.Task]
		t.Misses = append(t.Misses, advice.Miss{
			Place: r.Place, Other: r.Other, Kind: r.Kind, Name: r.Name, N: r.N, Seconds: r.Seconds, Run: r.Run,
		})
	}
	return err
}

// unstableKeys returns the keys whose executions did not agree, of all tasks or
// of one, the newest first.
func (q taskQuery) unstableKeys() ([]protocol.UnstableKey, error) {
	var rows []struct {
		Task      string                `db:"name"`
		Key       []byte                `db:"key"`
		Passed    int                   `db:"passed"`
		Failed    int                   `db:"failed"`
		Listings  int                   `db:"listings"`
		At        time.Time             `db:"last_at"`
		PassedRun string                `db:"passed_run"`
		FailedRun string                `db:"failed_run"`
		OtherRun  string                `db:"other_run"`
		Tests     records.Array[string] `db:"tests"`
	}
	err := q.rows(&rows, `
		SELECT n.name, u.key, u.passed, u.failed, u.listings, u.last_at, u.passed_run, u.failed_run, u.other_run, u.tests
		FROM unstable_keys u JOIN tasks n ON n.id = u.task_id
		WHERE u.repository_id = $1 AND u.last_at >= $3 AND ($2::bigint = 0 OR u.task_id = $2) ORDER BY u.last_at DESC LIMIT 500`)
	out := []protocol.UnstableKey{}
	for _, r := range rows {
		k := protocol.UnstableKey{
			Task: r.Task, Passed: r.Passed, Failed: r.Failed, Listings: r.Listings, At: r.At.UTC(), PassedRun: r.PassedRun,
			FailedRun: r.FailedRun,
			OtherRun:  r.OtherRun, Tests: append([]string{}, r.Tests...),
		}
		copy(k.Key[:], r.Key)
		out = append(out, k)
	}
	return out, err
}
