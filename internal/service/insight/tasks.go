package insight

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// TaskFilter selects and orders tasks.
type TaskFilter struct {
	Weeks     int
	Place     string
	Text      string // in the address of the task
	Column    string // a key of taskOrders
	Ascending bool
	Skip      int
	Limit     int
	only      int64 // the id of one task; 0: all
}

// taskOrders are the columns by which tasks are sorted.
var taskOrders = map[string]string{
	"": "run_seconds", "time": "run_seconds", "task": "task", "executed": "executed", "failed": "failed", "mean": "mean_seconds",
	"saved": "saved_seconds", "transferred": "bytes_in", "hits": "hit_rate", "same": "same_outputs", "critical": "critical_runs",
}

// TaskOrders tells whether tasks can be sorted by a column.
func TaskOrders(column string) bool { _, ok := taskOrders[column]; return ok }

// taskRow is a row of the list of tasks.
type taskRow struct {
	ID           int64    `db:"task_id"`
	Task         string   `db:"task"`
	Project      string   `db:"project"`
	Settled      int64    `db:"settled"`
	Executed     int64    `db:"executed"`
	Failed       int64    `db:"failed"`
	Reused       int64    `db:"reused"`
	SameOutputs  int64    `db:"same_outputs"`
	RunSeconds   float64  `db:"run_seconds"`
	MeanSeconds  float64  `db:"mean_seconds"`
	SavedSeconds float64  `db:"saved_seconds"`
	FetchSeconds float64  `db:"fetch_seconds"`
	BytesIn      int64    `db:"bytes_in"`
	BytesOut     int64    `db:"bytes_out"`
	HitRate      *float64 `db:"hit_rate"`
	CriticalRuns int64    `db:"critical_runs"`
	Total        int      `db:"total"`
}

func (r taskRow) row() protocol.TaskRow {
	return protocol.TaskRow{
		Task: r.Task, Project: r.Project, Settled: r.Settled, Executed: r.Executed, Failed: r.Failed, Reused: r.Reused,
		SameOutputs: r.SameOutputs, RunSeconds: r.RunSeconds, MeanSeconds: r.MeanSeconds, SavedSeconds: r.SavedSeconds,
		FetchSeconds: r.FetchSeconds, BytesIn: r.BytesIn, BytesOut: r.BytesOut, HitRate: r.HitRate, CriticalRuns: r.CriticalRuns,
		Trend: []float64{},
	}
}

// taskSums adds up the rollups of each task that a condition selects. Its
// arguments are the repository, the first week and the place.
const taskSums = `
	SELECT s.*, n.name AS task, n.project, coalesce(run_seconds / nullif(executed, 0), 0) AS mean_seconds,
		reused::float8 / nullif(reused + executed, 0) AS hit_rate
	FROM (SELECT task_id, sum(n) AS settled, coalesce(sum(n) FILTER (WHERE outcome IN ('ran', 'failed')), 0) AS executed,
			coalesce(sum(n) FILTER (WHERE outcome = 'failed'), 0) AS failed,
			coalesce(sum(n) FILTER (WHERE outcome IN ('cached', 'restored', 'fetched')), 0) AS reused,
			sum(same_outputs) AS same_outputs, sum(run_seconds) AS run_seconds, sum(saved_seconds) AS saved_seconds,
			sum(fetch_seconds) AS fetch_seconds, sum(bytes_in)::bigint AS bytes_in, sum(bytes_out)::bigint AS bytes_out,
			sum(critical_runs) AS critical_runs
		FROM task_weeks WHERE repository_id = $1 AND week >= $2 AND ($3 = '' OR place = $3) %s GROUP BY 1) s
	JOIN tasks n ON n.id = s.task_id`

// sinceWeeks returns the Monday with which a number of weeks, the current one
// included, begins.
func sinceWeeks(now time.Time, weeks int) time.Time { return weekOf(now).AddDate(0, 0, -7*(weeks-1)) }

// Tasks lists tasks with what happened to them.
func (r Reader) Tasks(ctx context.Context, f TaskFilter) (protocol.TaskPage, error) {
	page := protocol.TaskPage{Since: sinceWeeks(r.Now, f.Weeks), Weeks: f.Weeks, Tasks: []protocol.TaskRow{}}
	direction := "DESC"
	if f.Ascending {
		direction = "ASC"
	}
	condition := ""
	if f.only != 0 {
		condition = fmt.Sprintf("AND task_id = %d", f.only)
	}
	var rows []taskRow
	if err := r.DB.SelectContext(ctx, &rows, fmt.Sprintf(`
		SELECT *, count(*) OVER () AS total FROM (`+taskSums+`) t WHERE $4 = '' OR lower(task) LIKE $4
		ORDER BY %s %s NULLS LAST, task LIMIT %d OFFSET %d`, condition, taskOrders[f.Column], direction, f.Limit, f.Skip),
		r.Repository, page.Since, f.Place, records.Like(f.Text)); err != nil {
		return page, err
	}
	var ids []int64
	for _, row := range rows {
		page.Tasks = append(page.Tasks, row.row())
		page.Total = row.Total
		ids = append(ids, row.ID)
	}
	trends, err := r.trendsOf(ctx, ids, f)
	for i, id := range ids {
		page.Tasks[i].Trend = trends[id]
	}
	describe(page.Tasks, r.Graph)
	return page, err
}

// trendsOf returns the seconds of execution of tasks by week.
func (r Reader) trendsOf(ctx context.Context, ids []int64, f TaskFilter) (map[int64][]float64, error) {
	var rows []struct {
		ID      int64   `db:"task_id"`
		Week    int     `db:"n"`
		Seconds float64 `db:"seconds"`
	}
	err := r.DB.SelectContext(ctx, &rows, `
		SELECT task_id, (week - $3::date) / 7 AS n, sum(run_seconds) AS seconds FROM task_weeks
		WHERE repository_id = $1 AND task_id = ANY($2) AND week >= $3 AND ($4 = '' OR place = $4) GROUP BY 1, 2`,
		r.Repository, ids, sinceWeeks(r.Now, f.Weeks), f.Place)
	out := map[int64][]float64{}
	for _, id := range ids {
		out[id] = make([]float64, f.Weeks)
	}
	for _, row := range rows {
		if row.Week < f.Weeks {
			out[row.ID][row.Week] = row.Seconds
		}
	}
	return out, err
}

// describe adds what a graph says about tasks.
func describe(rows []protocol.TaskRow, g *graph.Graph) {
	if g == nil {
		return
	}
	for i := range rows {
		if t := g.Task(rows[i].Task); t != nil {
			rows[i].At, rows[i].Owner = t.Pos.At(), t.Project.Owner
		}
	}
}

// declaration returns how a task is declared; nil if it is not.
func declaration(g *graph.Graph, task string) *protocol.TaskDeclaration {
	if g == nil || g.Task(task) == nil {
		return nil
	}
	t := g.Task(task)
	d := &protocol.TaskDeclaration{
		Dependencies: []string{}, Dependents: []string{}, HasProbes: t.ProbesGiven(), HasWrites: t.WritesGiven(),
		HasOutputs: !t.Transparent(),
		Isolation:  string(t.Isolation),
	}
	for _, u := range t.Dependencies {
		d.Dependencies = append(d.Dependencies, u.Addr())
	}
	for _, u := range t.Dependents {
		d.Dependents = append(d.Dependents, u.Addr())
	}
	slices.SortFunc(d.Dependents, strings.Compare)
	return d
}
