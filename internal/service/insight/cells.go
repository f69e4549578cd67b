package insight

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/service/records"
)

// cell names the cells of some tasks in one week.
type cell struct {
	repository int64
	week       time.Time
	tasks      []int64
}

func (c cell) end() time.Time { return c.week.AddDate(0, 0, 7) }

// replace deletes cells and computes them again.
func (c cell) replace(ctx context.Context, tx *sqlx.Tx, remove, compute string, args ...any) error {
	if len(c.tasks) == 0 {
		return nil
	}
	if _, err := tx.ExecContext(ctx, remove, append([]any{c.repository, c.week, c.tasks}, args...)...); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, compute, append([]any{c.repository, c.week, c.tasks, c.end()}, args...)...)
	return err
}

// rollHour computes the cell of run_hours that a run belongs to.
func rollHour(ctx context.Context, tx *sqlx.Tx, run touched) error {
	args := []any{run.Repository, run.hour(), run.Place, run.Branch, run.Person, run.Shelf}
	if _, err := tx.ExecContext(ctx, `
		DELETE FROM run_hours WHERE repository_id = $1 AND hour = $2 AND place = $3 AND branch = $4 AND person = $5 AND shelf = $6`,
		args...); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO run_hours `+hours(`AND began >= $2 AND began < $2 + interval '1 hour'
		AND place = $3 AND branch = $4 AND name = $5 AND shelf = $6`), args...)
	return err
}

// hours is the query that computes cells of run_hours of repository $1.
func hours(condition string) string {
	return `SELECT repository_id, date_trunc('hour', began, 'UTC'), place, branch, name, shelf, count(*),
			count(*) FILTER (WHERE ok), count(*) FILTER (WHERE finished_at IS NOT NULL AND NOT ok AND NOT interrupted),
			count(*) FILTER (WHERE critical_seconds > 0), sum(seconds), sum(saved_seconds), sum(cost_seconds), sum(fetch_seconds),
			sum(bytes_in), sum(bytes_out), sum(n_cached + n_restored + n_fetched), sum(n_ran + n_failed)
		FROM runs r WHERE repository_id = $1 AND ` + records.Ended + ` ` + condition + ` GROUP BY 1, 2, 3, 4, 5, 6`
}

// rollWeek computes the cells of task_weeks at one place.
func rollWeek(ctx context.Context, tx *sqlx.Tx, c cell, place string) error {
	return c.replace(ctx, tx, `
		DELETE FROM task_weeks WHERE repository_id = $1 AND week = $2 AND task_id = ANY($3) AND place = $4`,
		`INSERT INTO task_weeks `+weeks(`AND began >= $2 AND began < $4 AND task_id = ANY($3) AND place = $5`), place)
}

// weeks is the query that computes cells of task_weeks of repository $1.
func weeks(condition string) string {
	return `SELECT repository_id, week, task_id, place, outcome, sum(n), sum(seconds), sum(run_seconds), sum(fetch_seconds),
			sum(saved_seconds), sum(bytes_in), sum(bytes_out), sum(same_outputs), sum(critical_runs), sum(critical),
			array_agg(bucket ORDER BY bucket), array_agg(n::integer ORDER BY bucket)
		FROM (SELECT repository_id, date_trunc('week', began, 'UTC')::date AS week, task_id, place, outcome,
				duration_bucket(seconds) AS bucket, count(*) AS n, sum(seconds) AS seconds, sum(run_seconds) AS run_seconds,
				sum(fetch_seconds) AS fetch_seconds, sum(saved_seconds) AS saved_seconds, sum(bytes_in) AS bytes_in,
				sum(bytes_out) AS bytes_out, count(*) FILTER (WHERE same_outputs) AS same_outputs,
				count(*) FILTER (WHERE critical > 0) AS critical_runs, sum(critical) AS critical
			FROM run_tasks WHERE repository_id = $1 AND NOT running ` + condition + ` GROUP BY 1, 2, 3, 4, 5, 6) b
		GROUP BY 1, 2, 3, 4, 5`
}

// rollRepeats computes how much work was done more than once.
func rollRepeats(ctx context.Context, tx *sqlx.Tx, c cell) error {
	return c.replace(ctx, tx, `DELETE FROM task_repeats WHERE repository_id = $1 AND week = $2 AND task_id = ANY($3)`,
		`INSERT INTO task_repeats `+repeats(`AND began >= $2 AND began < $4 AND task_id = ANY($3)`))
}

// repeats is the query that computes cells of task_repeats of repository $1.
func repeats(condition string) string {
	return `SELECT repository_id, week, task_id, sum(n), count(*), sum(seconds - longest)
		FROM (SELECT repository_id, date_trunc('week', began, 'UTC')::date AS week, task_id, key, count(*) AS n,
				sum(run_seconds) AS seconds, max(run_seconds) AS longest
			FROM run_tasks WHERE repository_id = $1 AND outcome = 'ran' ` + condition + ` GROUP BY 1, 2, 3, 4) k
		GROUP BY 1, 2, 3`
}

// rollCauses computes which files caused reruns.
func rollCauses(ctx context.Context, tx *sqlx.Tx, c cell) error {
	return c.replace(ctx, tx, `DELETE FROM task_causes WHERE repository_id = $1 AND week = $2 AND task_id = ANY($3)`,
		`INSERT INTO task_causes `+causes(`AND began >= $2 AND began < $4 AND task_id = ANY($3)`))
}

// causes is the query that computes cells of task_causes of repository $1. A
// rerun counts for each file that changed, and for each directory, below the
// root, that all of them are in.
func causes(condition string) string {
	return `SELECT repository_id, week, task_id, path, count(*), count(*) FILTER (WHERE same_outputs), sum(run_seconds), count(same_outputs)
		FROM (SELECT t.repository_id, date_trunc('week', began, 'UTC')::date AS week, t.task_id, t.same_outputs, t.run_seconds, c.path
			FROM run_tasks t, LATERAL (
				SELECT DISTINCT f AS path FROM unnest(changed) AS f
				UNION
				SELECT array_to_string(parts[1:n], '/') || '/' FROM (
					SELECT string_to_array(f, '/') AS parts FROM unnest(changed) AS f) s, generate_series(1, cardinality(parts) - 1) AS n
				GROUP BY 1 HAVING count(*) = cardinality(changed)) c
			WHERE t.repository_id = $1 AND t.outcome = 'ran' AND t.reason = 'files' AND t.compared <> ''
				AND t.changed_count = cardinality(t.changed) ` + condition + `) x
		GROUP BY 1, 2, 3, 4`
}

// rollKeys computes the keys that a run executed and whose executions do not
// agree.
func rollKeys(ctx context.Context, tx *sqlx.Tx, run touched) error {
	args := []any{run.Repository, run.Began, run.ID}
	const own = `SELECT task_id, key FROM run_tasks WHERE repository_id = $1 AND began = $2 AND run_id = $3
		AND outcome IN ('ran', 'failed') AND key IS NOT NULL`
	if _, err := tx.ExecContext(ctx, `
		DELETE FROM unstable_keys WHERE repository_id = $1 AND (task_id, key) IN (`+own+`)`, args...); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO unstable_keys `+unstable(`AND (task_id, key) IN (`+own+`)`), args...)
	return err
}

// unstable is the query that computes unstable_keys of repository $1.
func unstable(condition string) string {
	return `SELECT $1, k.task_id, k.key, k.passed, k.failed, k.listings, k.last_at, k.passed_run, coalesce(k.failed_run, ''),
			coalesce((SELECT max(o.run_id) FROM run_tasks o WHERE o.repository_id = $1 AND o.task_id = k.task_id AND o.key = k.key
				AND o.outcome = 'ran' AND o.listing IS DISTINCT FROM k.listing), ''),
			ARRAY(SELECT c.name FROM run_tasks o JOIN test_cases c ON c.repository_id = $1 AND c.began = o.began
					AND c.run_id = o.run_id AND c.task_id = o.task_id
				WHERE o.repository_id = $1 AND o.task_id = k.task_id AND o.key = k.key AND o.outcome IN ('ran', 'failed')
				GROUP BY c.name HAVING bool_or(c.result = 'failed') AND bool_or(c.result = 'passed') ORDER BY 1 LIMIT 50)
		FROM (SELECT task_id, key, count(*) FILTER (WHERE outcome = 'ran') AS passed,
				count(*) FILTER (WHERE outcome = 'failed') AS failed,
				count(DISTINCT listing) FILTER (WHERE outcome = 'ran') AS listings, max(began) AS last_at,
				max(run_id) FILTER (WHERE outcome = 'ran') AS passed_run, max(run_id) FILTER (WHERE outcome = 'failed') AS failed_run,
				(array_agg(listing ORDER BY run_id DESC) FILTER (WHERE outcome = 'ran'))[1] AS listing
			FROM run_tasks WHERE repository_id = $1 AND outcome IN ('ran', 'failed') AND key IS NOT NULL ` + condition + `
			GROUP BY 1, 2
			HAVING count(*) FILTER (WHERE outcome = 'ran') > 0
				AND (count(*) FILTER (WHERE outcome = 'failed') > 0 OR count(DISTINCT listing) FILTER (WHERE outcome = 'ran') > 1)) k`
}
