package insight

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/critical"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/service/records"
)

// rollLock is the advisory lock, beside the repository, under which cells are
// computed: two jobs that compute one cell take turns, so that the later one
// sees all records.
const rollLock = 0x10f7_0002

// Rollups computes the rollups. Every cell that a run touches is computed again
// from the records, as a whole, so that runs may come late, twice, or in any
// order.
type Rollups struct {
	DB           *records.DB
	Declarations *Declarations
	// Made returns what an execution was made from, by the digest of its
	// ingredients; nil if that is not known. Without it, near misses are not found.
	Made func(ctx context.Context, repository int64, ingredients digest.Digest) (*key.Ingredients, error)
}

// touched is a run whose cells are computed.
type touched struct {
	Repository int64     `db:"repository_id"`
	ID         string    `db:"id"`
	Began      time.Time `db:"began"`
	Place      string    `db:"place"`
	Branch     string    `db:"branch"`
	Person     string    `db:"name"`
	Shelf      string    `db:"shelf"`
	Graph      []byte    `db:"graph"`
	Seconds    float64   `db:"seconds"`
	Through    int64     `db:"through"`
}

func (r touched) hour() time.Time { return r.Began.UTC().Truncate(time.Hour) }

// weekOf returns the Monday, UTC, with which the week of a moment begins.
func weekOf(at time.Time) time.Time {
	at = at.UTC()
	day := time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
	return day.AddDate(0, 0, -(int(day.Weekday())+6)%7)
}

// Roll computes the cells that a run touches. A run that no longer exists
// touches none.
func (r *Rollups) Roll(ctx context.Context, repository int64, run string) error {
	var graphs *graph.Graph
	if name, err := r.graphOf(ctx, repository, run); err != nil {
		return err
	} else if !name.IsZero() {
		if graphs, err = r.Declarations.Graph(ctx, repository, name); err != nil && !isUnknown(err) {
			return err
		}
	}
	if err := r.rollUp(ctx, repository, run, graphs); err != nil || r.Made == nil {
		return err
	}
	return r.findMisses(ctx, repository, run)
}

func (r *Rollups) rollUp(ctx context.Context, repository int64, run string, g *graph.Graph) error {
	return r.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1, $2)`, rollLock, int32(repository)); err != nil {
			return err
		}
		var list []touched
		if err := tx.SelectContext(ctx, &list, `
			SELECT repository_id, id, began, place, branch, name, shelf, graph, seconds, through FROM runs
			WHERE repository_id = $1 AND id = $2`, repository, run); err != nil || len(list) == 0 {
			return err
		}
		return roll(ctx, tx, list[0], g)
	})
}

func (r *Rollups) graphOf(ctx context.Context, repository int64, run string) (digest.Digest, error) {
	var list [][]byte
	err := r.DB.SelectContext(
		ctx,
		&list,
		`SELECT graph FROM runs WHERE repository_id = $1 AND id = $2 AND graph IS NOT NULL`,
		repository,
		run,
	)
	if err != nil || len(list) == 0 {
		return digest.Digest{}, err
	}
	return digest.FromBytes(list[0])
}

func roll(ctx context.Context, tx *sqlx.Tx, run touched, g *graph.Graph) error {
	rows, err := records.RunRecords(ctx, tx, run.Repository, run.Began, run.ID)
	if err != nil {
		return err
	}
	if err := records.CountTasks(ctx, tx, run.Repository, run.Began, run.ID); err != nil {
		return err
	}
	if err := markCritical(ctx, tx, run, spansOf(rows, g)); err != nil {
		return err
	}
	tasks, executed, err := touchedTasks(ctx, tx, run)
	if err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { return rollHour(ctx, tx, run) },
		func() error { return rollWeek(ctx, tx, cell{run.Repository, weekOf(run.Began), tasks}, run.Place) },
		func() error { return rollRepeats(ctx, tx, cell{run.Repository, weekOf(run.Began), executed}) },
		func() error { return rollCauses(ctx, tx, cell{run.Repository, weekOf(run.Began), executed}) },
		func() error { return rollKeys(ctx, tx, run) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	if _, err = tx.ExecContext(ctx, `
		UPDATE runs SET rolled = $3 WHERE repository_id = $1 AND id = $2`, run.Repository, run.ID, run.Through); err != nil {
		return err
	}
	return records.Notify(ctx, tx, run.Repository, run.ID) // pages show the new figures
}

// spansOf returns when the tasks of a run worked. Without a graph nothing is
// known about what they waited for, and there is no critical path.
func spansOf(rows []records.RecordRow, g *graph.Graph) map[string]critical.Span {
	out := map[string]critical.Span{}
	if g == nil {
		return out
	}
	for _, r := range rows {
		s := critical.Span{At: r.At, Seconds: r.Seconds, Worked: decide.Outcome(r.Outcome).IsWork()}
		if t := g.Task(r.Task); t != nil {
			for _, u := range t.Dependencies {
				s.Dependencies = append(s.Dependencies, u.Addr())
			}
		}
		out[r.Task] = s
	}
	return out
}

// markCritical records which tasks are on the critical path of a run, and which
// part of its time each of them took.
func markCritical(ctx context.Context, tx *sqlx.Tx, run touched, spans map[string]critical.Span) error {
	path := critical.Path(spans)
	total := 0.0
	for _, name := range path {
		total += spans[name].Seconds
	}
	shares := make([]float64, len(path))
	for i, name := range path {
		if whole := max(total, run.Seconds); whole > 0 {
			shares[i] = spans[name].Seconds / whole
		}
	}
	if _, err := tx.ExecContext(ctx, `
		UPDATE run_tasks t SET critical = coalesce(c.share, 0) FROM tasks n LEFT JOIN unnest($4::text[], $5::float8[]) AS c (task,
			share) ON c.task = n.name
		WHERE t.repository_id = $1 AND t.began = $2 AND t.run_id = $3 AND n.id = t.task_id AND t.critical <> coalesce(c.share, 0)`,
		run.Repository, run.Began, run.ID, path, shares); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `
		UPDATE runs SET critical_seconds = $3 WHERE repository_id = $1 AND id = $2 AND critical_seconds <> $3`, run.Repository,
		run.ID, total)
	return err
}

// touchedTasks returns the tasks that a run settled, and those that it executed.
func touchedTasks(ctx context.Context, tx *sqlx.Tx, run touched) (all, executed []int64, err error) {
	var rows []struct {
		Task     int64 `db:"task_id"`
		Executed bool  `db:"executed"`
	}
	err = tx.SelectContext(ctx, &rows, `
		SELECT task_id, outcome IN ('ran', 'failed') AS executed FROM run_tasks
		WHERE repository_id = $1 AND began = $2 AND run_id = $3 AND NOT running`, run.Repository, run.Began, run.ID)
	for _, r := range rows {
		all = append(all, r.Task)
		if r.Executed {
			executed = append(executed, r.Task)
		}
	}
	return all, executed, err
}
