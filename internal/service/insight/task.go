package insight

import (
	"context"
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// Behaviour returns how one task behaved in a number of weeks.
func (r Reader) Behaviour(ctx context.Context, task string, weeks int) (protocol.TaskBehaviour, error) {
	b := protocol.TaskBehaviour{Since: sinceWeeks(r.Now, weeks), Weeks: weeks}
	id, err := r.DB.TaskID(ctx, r.Repository, task)
	if err != nil {
		return b, err
	}
	q := taskQuery{ctx, r, id, b.Since}
	page, err := r.Tasks(ctx, TaskFilter{Weeks: weeks, Limit: 1, only: id})
	if err != nil {
		return b, err
	}
	b.Task, b.Trend = task, []float64{}
	if len(page.Tasks) > 0 {
		b.TaskRow = page.Tasks[0]
	}
	for _, step := range []func(*protocol.TaskBehaviour) error{q.places, q.points, q.reasons, q.causes, q.unstable, q.tests} {
		if err := step(&b); err != nil {
			return b, err
		}
	}
	describeTask(&b, r.Graph)
	all, _, err := q.inputs(weeks)
	b.Advice = advice.Find(all, advice.Defaults)
	return b, err
}

func describeTask(b *protocol.TaskBehaviour, g *graph.Graph) {
	b.Graph = declaration(g, b.Task)
	if b.Graph == nil {
		return
	}
	t := g.Task(b.Task)
	b.At, b.Owner, b.Help, b.Command, b.Reuse = t.Pos.At(), t.Project.Owner, t.Help, t.Decl.Run.String(), string(t.Reuse)
	b.Project = t.Project.Name
}

// taskQuery asks about one task, or about all: task is 0.
type taskQuery struct {
	ctx context.Context //nolint:containedctx // of one question, which this does not outlive
	Reader
	task  int64
	since time.Time
}

func (q taskQuery) rows(to any, query string, args ...any) error {
	return q.DB.SelectContext(q.ctx, to, query, append([]any{q.Repository, q.task, q.since}, args...)...)
}

// shownValues is how many durations of a distribution are shown.
const shownValues = 200

func (q taskQuery) places(b *protocol.TaskBehaviour) error {
	var rows []struct {
		Place     string                 `db:"place"`
		Outcome   string                 `db:"outcome"`
		N         int                    `db:"n"`
		Quantiles records.Array[float64] `db:"quantiles"`
		Values    records.Array[float64] `db:"some"`
		Bytes     int64                  `db:"bytes"`
		Fetching  float64                `db:"fetching"`
	}
	err := q.rows(&rows, `
		SELECT place, outcome, count(*) AS n, sum(bytes_in)::bigint AS bytes, sum(fetch_seconds) AS fetching,
			percentile_cont(ARRAY[0, 0.25, 0.5, 0.75, 1]) WITHIN GROUP (ORDER BY took) AS quantiles,
			percentile_disc(ARRAY(SELECT (i + 0.5) / $4 FROM generate_series(0, $4 - 1) AS i)) WITHIN GROUP (ORDER BY took) AS some
		FROM (SELECT place, outcome, bytes_in, fetch_seconds, CASE WHEN outcome = 'ran' THEN run_seconds ELSE seconds END AS took
			FROM run_tasks WHERE repository_id = $1 AND task_id = $2 AND began >= $3 AND outcome IN ('ran', 'fetched') AND NOT running) t
		GROUP BY 1, 2 ORDER BY 1, 2`, shownValues)
	if err != nil {
		return err
	}
	b.Places = []protocol.PlaceTimes{}
	for _, r := range rows {
		if n := len(b.Places); n == 0 || b.Places[n-1].Place != r.Place {
			b.Places = append(b.Places, protocol.PlaceTimes{Place: r.Place, Run: noTimes(), Fetch: noTimes()})
		}
		p := &b.Places[len(b.Places)-1]
		times := protocol.Times{
			N: r.N, Lowest: r.Quantiles[0], Quarter: r.Quantiles[1], Median: r.Quantiles[2], Upper: r.Quantiles[3], Highest: r.Quantiles[4],
			Values: thin(r.Values, r.N),
		}
		if r.Outcome == "ran" {
			p.Run = times
			continue
		}
		p.Fetch, p.BytesIn = times, r.Bytes
		if r.Fetching > 0 {
			p.Speed = float64(r.Bytes) / r.Fetching
		}
	}
	for i := range b.Places {
		judge(&b.Places[i])
	}
	return nil
}

func noTimes() protocol.Times { return protocol.Times{Values: []float64{}} }

// thin leaves each value once if there are fewer than were asked for.
func thin(values []float64, n int) []float64 {
	if n >= len(values) {
		return values
	}
	out := []float64{}
	for i := range n {
		out = append(out, values[(2*i+1)*len(values)/(2*n)])
	}
	return out
}

// judge says whether running or fetching is faster at a place.
func judge(p *protocol.PlaceTimes) {
	t := advice.Defaults
	difference := p.Fetch.Median - p.Run.Median
	switch {
	case p.Run.N < t.Samples || p.Fetch.N < t.Samples:
		p.Verdict = "unknown"
		p.Says = fmt.Sprintf("too few samples to compare: running %d, fetching %d; each needs %d", p.Run.N, p.Fetch.N, t.Samples)
	case difference >= t.SlowerBy:
		p.Verdict, p.Says = "running", fmt.Sprintf("running is faster, by %s", amount.Seconds(difference))
	case -difference >= t.SlowerBy:
		p.Verdict, p.Says = "fetching", fmt.Sprintf("fetching is faster, by %s", amount.Seconds(-difference))
	default:
		p.Verdict, p.Says = "same", fmt.Sprintf("it makes no difference: less than %s", amount.Seconds(t.SlowerBy))
	}
}

func (q taskQuery) points(b *protocol.TaskBehaviour) error {
	var rows []struct {
		At      time.Time `db:"began"`
		Run     string    `db:"run_id"`
		Place   string    `db:"place"`
		Outcome string    `db:"outcome"`
		Reason  string    `db:"reason"`
		Seconds float64   `db:"seconds"`
	}
	err := q.rows(&rows, `
		SELECT began, run_id, place, outcome, reason, seconds FROM run_tasks
		WHERE repository_id = $1 AND task_id = $2 AND began >= $3 AND outcome IN ('ran', 'failed', 'fetched', 'restored') AND NOT running
		ORDER BY began DESC LIMIT $4`, protocol.MaxPoints)
	b.Points = []protocol.TaskPoint{}
	for _, r := range rows {
		b.Points = append(b.Points, protocol.TaskPoint{
			At: r.At.UTC(), Run: r.Run, Place: r.Place, Outcome: r.Outcome, Reason: r.Reason, Seconds: r.Seconds,
		})
	}
	return err
}

func (q taskQuery) reasons(b *protocol.TaskBehaviour) error {
	var rows []struct {
		Week   time.Time `db:"week"`
		Reason string    `db:"reason"`
		N      int       `db:"n"`
	}
	err := q.rows(&rows, `
		SELECT date_trunc('week', began, 'UTC') AS week, reason, count(*) AS n FROM run_tasks
		WHERE repository_id = $1 AND task_id = $2 AND began >= $3 AND outcome IN ('ran', 'failed') AND reason <> '' AND NOT running
		GROUP BY 1, 2 ORDER BY 1, 2`)
	b.Reasons = []protocol.ReasonCount{}
	for _, r := range rows {
		b.Reasons = append(b.Reasons, protocol.ReasonCount{Week: r.Week.UTC(), Reason: r.Reason, N: r.N})
	}
	return err
}

// shownCauses is how many paths are listed.
const shownCauses = 50

func (q taskQuery) causes(b *protocol.TaskBehaviour) error {
	b.Causes = []protocol.CauseRow{}
	return q.rows(&b.Causes, `
		SELECT path, sum(reruns) AS reruns, sum(judged) AS judged, sum(same_outputs) AS sameoutputs, sum(seconds) AS seconds,
			1 AS tasks
		FROM task_causes
		WHERE repository_id = $1 AND task_id = $2 AND week >= $3 GROUP BY 1 ORDER BY 2 DESC, length(path) DESC, 1 LIMIT $4`, shownCauses)
}

func (q taskQuery) unstable(b *protocol.TaskBehaviour) (err error) {
	b.Unstable, err = q.unstableKeys()
	return err
}

func (q taskQuery) tests(b *protocol.TaskBehaviour) error {
	b.Tests = []protocol.TestHistory{}
	err := q.rows(&b.Tests, `
		SELECT name, count(*) FILTER (WHERE result = 'passed') AS passed, count(*) FILTER (WHERE result = 'failed') AS failed,
			max(began) FILTER (WHERE result = 'failed') AS last, max(run_id) FILTER (WHERE result = 'failed') AS lastrun,
			(array_agg(message ORDER BY began DESC) FILTER (WHERE result = 'failed'))[1] AS message
		FROM test_cases WHERE repository_id = $1 AND task_id = $2 AND began >= $3
		GROUP BY 1 HAVING bool_or(result = 'failed') ORDER BY 3 DESC, 1 LIMIT 100`)
	for i := range b.Tests {
		b.Tests[i].Task = b.Task
	}
	return err
}
