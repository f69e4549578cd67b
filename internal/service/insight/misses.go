package insight

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/core/digest"
)

// mostMisses is how many executions of a run are compared, the longest first.
const mostMisses = 50

// candidate is an execution, and another one of the same task that was made from
// the same commit at another place, on a shelf that its run could read.
type candidate struct {
	Task        int64     `db:"task_id"`
	Began       time.Time `db:"began"`
	Place       string    `db:"place"`
	Seconds     float64   `db:"run_seconds"`
	Ingredients []byte    `db:"ingredients"`
	OtherRun    string    `db:"other_run"`
	OtherPlace  string    `db:"other_place"`
	Other       []byte    `db:"other"`
}

// findMisses records the executions of a run that would have been reused if one
// probe, variable or platform were equal.
func (r *Rollups) findMisses(ctx context.Context, repository int64, run string) error {
	var list []candidate
	if err := r.DB.SelectContext(ctx, &list, `
		SELECT t.task_id, t.began, t.place, t.run_seconds, t.ingredients, o.run_id AS other_run, o.place AS other_place,
			o.ingredients AS other
		FROM runs r
		JOIN run_tasks t ON t.repository_id = $1 AND t.began = r.began AND t.run_id = $2 AND t.outcome = 'ran' AND t.ingredients IS NOT NULL
			AND t.key IS NOT NULL
		JOIN LATERAL (
			SELECT o.run_id, o.place, o.ingredients FROM runs x
			JOIN run_tasks o ON o.repository_id = $1 AND o.began = x.began AND o.run_id = x.id AND o.task_id = t.task_id
			WHERE x.repository_id = $1 AND x.commit = r.commit AND x.place <> r.place AND x.began <= r.began
				AND (x.shelf = 'trusted' OR x.name = r.name) AND o.outcome = 'ran' AND o.key <> t.key AND o.ingredients IS NOT NULL
			ORDER BY x.began DESC LIMIT 1) o ON true
		WHERE r.repository_id = $1 AND r.id = $2 AND r.commit <> '' AND NOT r.no_reuse
		ORDER BY t.run_seconds DESC LIMIT $3`, repository, run, mostMisses); err != nil {
		return err
	}
	var found []nearMiss
	for _, c := range list {
		d, ok, err := r.difference(ctx, repository, c)
		if err != nil {
			return err
		}
		if ok {
			found = append(found, nearMiss{c, d})
		}
	}
	return r.DB.InTx(ctx, func(tx *sqlx.Tx) error { return noteMisses(ctx, tx, repository, run, found) })
}

type nearMiss struct {
	candidate
	advice.Difference
}

func (r *Rollups) difference(ctx context.Context, repository int64, c candidate) (d advice.Difference, ok bool, err error) {
	own, err := digest.FromBytes(c.Ingredients)
	if err != nil {
		return d, false, err
	}
	other, err := digest.FromBytes(c.Other)
	if err != nil {
		return d, false, err
	}
	mine, err := r.Made(ctx, repository, own)
	if mine == nil || err != nil {
		return d, false, err
	}
	theirs, err := r.Made(ctx, repository, other)
	if theirs == nil || err != nil {
		return d, false, err
	}
	d, ok = advice.OnlyDifference(theirs, mine)
	return d, ok, nil
}

func noteMisses(ctx context.Context, tx *sqlx.Tx, repository int64, run string, found []nearMiss) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM near_misses WHERE repository_id = $1 AND run_id = $2`, repository, run); err != nil {
		return err
	}
	for _, m := range found {
		if _, err := tx.ExecContext(ctx, `
			INSERT INTO near_misses (repository_id, began, run_id, task_id, place, other_run, other_place, kind, name, seconds)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT DO NOTHING`,
			repository, m.Began, run, m.Task, m.Place, m.OtherRun, m.OtherPlace, m.Kind, m.Name, m.Seconds); err != nil {
			return err
		}
	}
	return nil
}
