package insight

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Unrolled is a run that is not part of the rollups as it is now.
type Unrolled struct {
	Repository int64     `db:"repository_id"`
	ID         string    `db:"id"`
	Touched    time.Time `db:"touched_at"`
}

// Waiting returns runs, at most 500 after another one, that ended, or fell silent, and are not
// part of the rollups although nothing was sent for a while.
func (r *Rollups) Waiting(ctx context.Context, after Unrolled) (list []Unrolled, err error) {
	return list, r.DB.SelectContext(ctx, &list, `
		SELECT repository_id, id, touched_at FROM runs WHERE rolled < through AND (touched_at, id) > ($1, $2)
			AND (finished_at IS NOT NULL AND touched_at < now() - interval '20 seconds' OR touched_at < now() - interval '5 minutes')
		ORDER BY touched_at, id LIMIT 500`, after.Touched, after.ID)
}

// Rebuild computes all rollups of a repository again from the records. Which
// tasks are on the critical path is part of the records.
func (r *Rollups) Rebuild(ctx context.Context, repository int64) error {
	return r.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1, $2)`, rollLock, int32(repository)); err != nil {
			return err
		}
		for _, table := range []string{"run_hours", "task_weeks", "task_repeats", "task_causes", "unstable_keys"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE repository_id = $1`, repository); err != nil {
				return err
			}
		}
		for table, query := range map[string]string{
			"run_hours": hours(""), "task_weeks": weeks(""), "task_repeats": repeats(""), "task_causes": causes(""),
			"unstable_keys": unstable(""),
		} {
			if _, err := tx.ExecContext(ctx, `INSERT INTO `+table+` `+query, repository); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE runs SET rolled = through WHERE repository_id = $1 AND rolled <> through`, repository)
		return err
	})
}
