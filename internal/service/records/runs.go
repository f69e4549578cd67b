package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// ErrOthers is returned for events of a run that another token announced.
var ErrOthers = errors.New("another token announced this run")

// StartRun records a run. A run that is already known stays unchanged.
func (db *DB) StartRun(ctx context.Context, t Token, r protocol.Run) error {
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO runs (repository_id, id, token_id, name, host, place, branch, commit, shelf,
				requested, no_reuse, jobs, tasks, started_at)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14) ON CONFLICT DO NOTHING`,
			t.RepositoryID, r.ID, t.ID, t.Name, r.Host, r.Place, r.Branch, r.Commit, t.WritesTo, append([]string{}, r.Requested...),
			r.NoReuse, r.Jobs, r.Tasks, r.Started)
		if err != nil {
			return err
		}
		return notify(ctx, tx, t.RepositoryID, r.ID)
	})
}

// GapError says that events are missing between those that the service has and
// those that were sent.
type GapError struct{ Through, Got int64 }

func (e GapError) Error() string {
	return fmt.Sprintf("event %d was sent, but the service has events only up to %d", e.Got, e.Through)
}

// AddEvents applies new events, in order; known ones are skipped. It returns
// the number up to which the service has all events.
func (db *DB) AddEvents(ctx context.Context, t Token, run string, events []protocol.Event) (through int64, err error) {
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		var row struct {
			Through int64 `db:"through"`
			TokenID int64 `db:"token_id"`
		}
		if err := tx.GetContext(ctx, &row, `
			SELECT through, token_id FROM runs WHERE repository_id = $1 AND id = $2 FOR UPDATE`, t.RepositoryID, run); err != nil {
			return missing(err, "run "+run)
		}
		if row.TokenID != t.ID {
			return ErrOthers
		}
		through = row.Through
		for _, e := range events {
			if e.Seq <= through {
				continue
			}
			if e.Seq != through+1 {
				return GapError{through, e.Seq}
			}
			if err := apply(ctx, tx, t.RepositoryID, run, e); err != nil {
				return err
			}
			through = e.Seq
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE runs SET through = $3, touched_at = now() WHERE repository_id = $1 AND id = $2`,
			t.RepositoryID, run, through); err != nil {
			return err
		}
		return notify(ctx, tx, t.RepositoryID, run)
	})
	return through, err
}

func apply(ctx context.Context, tx *sqlx.Tx, repository int64, run string, e protocol.Event) error {
	switch {
	case e.Start != nil:
		_, err := tx.ExecContext(ctx, `
			INSERT INTO run_tasks (repository_id, run_id, task, running, slot, at) VALUES ($1, $2, $3, true, $4, $5)
			ON CONFLICT (repository_id, run_id, task) DO UPDATE SET running = true, slot = excluded.slot, at = excluded.at`,
			repository, run, e.Start.Task, e.Start.Slot, e.Start.At)
		return err
	case e.Task != nil:
		record, err := json.Marshal(e.Task)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `
			INSERT INTO run_tasks (repository_id, run_id, task, running, slot, at, record, log) VALUES ($1, $2, $3, false, $4, $5, $6, $7)
			ON CONFLICT (repository_id, run_id, task) DO UPDATE SET
				running = false, slot = excluded.slot, at = excluded.at, record = excluded.record, log = excluded.log`,
			repository, run, e.Task.Task, e.Task.Slot, e.Task.At, string(record), optional(e.Task.Log))
		return err
	case e.Finish != nil:
		f := e.Finish
		totals, err := json.Marshal(f.Totals)
		if err != nil {
			return err
		}
		// What the records of tasks tell is computed from them.
		_, err = tx.ExecContext(ctx, `
			UPDATE runs SET finished_at = started_at + make_interval(secs => $3), ok = $4, interrupted = $5, seconds = $3,
				cost_seconds = $6, bytes_out = $7, totals = $8, saved_seconds = t.saved, bytes_in = t.bytes
			FROM (SELECT coalesce(sum((record->>'saved_seconds')::float8 + (record->>'seconds')::float8)
					FILTER (WHERE (record->>'saved_seconds')::float8 <> 0), 0) AS saved,
				coalesce(sum((record->>'bytes_in')::bigint), 0)::bigint AS bytes
				FROM run_tasks WHERE repository_id = $1 AND run_id = $2 AND NOT running) t
			WHERE repository_id = $1 AND id = $2`,
			repository, run, f.Seconds, f.OK, f.Interrupted, f.CostSeconds, f.BytesOut, string(totals))
		return err
	}
	return nil
}

// lostAfter is how long a run may be silent before it counts as lost.
const lostAfter = "5 minutes"

type runRow struct {
	ID          string     `db:"id"`
	Name        string     `db:"name"`
	Host        string     `db:"host"`
	Place       string     `db:"place"`
	Branch      string     `db:"branch"`
	Commit      string     `db:"commit"`
	Shelf       string     `db:"shelf"`
	Requested   texts      `db:"requested"`
	NoReuse     bool       `db:"no_reuse"`
	Jobs        int        `db:"jobs"`
	Tasks       int        `db:"tasks"`
	Started     time.Time  `db:"started_at"`
	Finished    *time.Time `db:"finished_at"`
	Running     bool       `db:"running"`
	OK          bool       `db:"ok"`
	Interrupted bool       `db:"interrupted"`
	Seconds     float64    `db:"seconds"`
	Saved       float64    `db:"saved_seconds"`
	Cost        float64    `db:"cost_seconds"`
	In          int64      `db:"bytes_in"`
	Out         int64      `db:"bytes_out"`
	Totals      []byte     `db:"totals"`
	Partial     []byte     `db:"partial"`
}

const runColumns = `r.id, r.name, r.host, r.place, r.branch, r.commit, r.shelf, r.requested, r.no_reuse, r.jobs, r.tasks, r.started_at,
	r.finished_at, r.finished_at IS NULL AND r.touched_at > now() - interval '` + lostAfter + `' AS running,
	r.ok, r.interrupted, r.seconds, r.saved_seconds, r.cost_seconds, r.bytes_in, r.bytes_out, r.totals,
	CASE WHEN r.finished_at IS NULL THEN (
		SELECT jsonb_object_agg(outcome, n) FROM (
			SELECT record->>'outcome' AS outcome, count(*) AS n FROM run_tasks t
			WHERE t.repository_id = r.repository_id AND t.run_id = r.id AND NOT t.running GROUP BY 1) o) END AS partial`

func (r runRow) row() protocol.RunRow {
	out := protocol.RunRow{
		Run: protocol.Run{
			ID: r.ID, Name: r.Name, Host: r.Host, Place: r.Place, Branch: r.Branch, Commit: r.Commit, Shelf: r.Shelf,
			Requested: append([]string{}, r.Requested...), NoReuse: r.NoReuse, Jobs: r.Jobs, Tasks: r.Tasks, Started: r.Started.UTC(),
		},
		Finished: r.Finished, Running: r.Running,
		RunFinish: protocol.RunFinish{
			OK: r.OK, Interrupted: r.Interrupted, Seconds: r.Seconds, SavedSeconds: r.Saved, CostSeconds: r.Cost,
			BytesIn: r.In, BytesOut: r.Out, Totals: map[string]int{},
		},
	}
	for _, b := range [][]byte{r.Totals, r.Partial} {
		if len(b) > 0 {
			_ = json.Unmarshal(b, &out.Totals) // written by apply, or by PostgreSQL
		}
	}
	return out
}

// RunFilter selects runs.
type RunFilter struct {
	Since  time.Time
	Place  string
	Before string // id of the last run of the previous page
	Limit  int
}

// Runs returns runs, newest first. Ids sort by time.
func (db *DB) Runs(ctx context.Context, repository int64, f RunFilter) ([]protocol.RunRow, error) {
	var rows []runRow
	err := db.SelectContext(ctx, &rows, `
		SELECT `+runColumns+` FROM runs r
		WHERE r.repository_id = $1 AND r.started_at >= $2 AND ($3 = '' OR r.place = $3)
			AND ($4 = '' OR (r.started_at, r.id) < (SELECT started_at, id FROM runs WHERE repository_id = $1 AND id = $4))
		ORDER BY r.started_at DESC, r.id DESC LIMIT $5`, repository, f.Since, f.Place, f.Before, f.Limit)
	out := make([]protocol.RunRow, len(rows))
	for i, r := range rows {
		out[i] = r.row()
	}
	return out, err
}

// Run returns one run with its tasks.
func (db *DB) Run(ctx context.Context, repository int64, id string) (protocol.RunDetail, error) {
	var d protocol.RunDetail
	var row runRow
	if err := db.GetContext(ctx, &row, `SELECT `+runColumns+` FROM runs r WHERE r.repository_id = $1 AND r.id = $2`, repository,
		id); err != nil {
		return d, missing(err, "run "+id)
	}
	d.RunRow = row.row()
	d.Records, d.Starts = []protocol.TaskRecord{}, []protocol.TaskStart{}
	var tasks []struct {
		Task    string  `db:"task"`
		Running bool    `db:"running"`
		Slot    int     `db:"slot"`
		At      float64 `db:"at"`
		Record  []byte  `db:"record"`
	}
	if err := db.SelectContext(ctx, &tasks, `
		SELECT task, running, slot, at, record FROM run_tasks
		WHERE repository_id = $1 AND run_id = $2 ORDER BY at, task`, repository, id); err != nil {
		return d, err
	}
	for _, t := range tasks {
		if t.Running {
			d.Starts = append(d.Starts, protocol.TaskStart{Task: t.Task, At: t.At, Slot: t.Slot})
			continue
		}
		var rec protocol.TaskRecord
		if err := json.Unmarshal(t.Record, &rec); err != nil {
			return d, fmt.Errorf("the record of %s in run %s: %w", t.Task, id, err)
		}
		d.Records = append(d.Records, rec)
	}
	return d, nil
}

// RunLog returns the digest of the log of a task in a run.
func (db *DB) RunLog(ctx context.Context, repository int64, run, task string) (digest.Digest, error) {
	var log []byte
	err := db.GetContext(ctx, &log, `
		SELECT log FROM run_tasks WHERE repository_id = $1 AND run_id = $2 AND task = $3 AND log IS NOT NULL`, repository, run, task)
	return asDigest(log), missing(err, "log of "+task+" in run "+run)
}

// Balance returns, for each place, the time saved and the cost of sharing, in
// equal intervals of time.
func (db *DB) Balance(ctx context.Context, repository int64, since, until time.Time, stretches int) (protocol.Balance, error) {
	b := protocol.Balance{Since: since.UTC(), Until: until.UTC(), Places: []protocol.PlaceBalance{}}
	width := until.Sub(since).Seconds() / float64(stretches)
	b.IntervalSeconds = width
	var rows []struct {
		Place  string  `db:"place"`
		N      int     `db:"n"`
		Runs   int     `db:"runs"`
		Saved  float64 `db:"saved"`
		Cost   float64 `db:"cost"`
		People texts   `db:"people"`
	}
	if err := db.SelectContext(ctx, &rows, `
		SELECT place, floor(extract(epoch FROM started_at - $2) / $4)::int AS n, count(*) AS runs,
			sum(saved_seconds) AS saved, sum(cost_seconds) AS cost, array_agg(DISTINCT name) AS people
		FROM runs WHERE repository_id = $1 AND started_at >= $2 AND started_at < $3
		GROUP BY 1, 2 ORDER BY 1, 2`, repository, since, until, width); err != nil {
		return b, err
	}
	people := map[string]bool{}
	for _, r := range rows {
		if len(b.Places) == 0 || b.Places[len(b.Places)-1].Place != r.Place {
			b.Places = append(b.Places, protocol.PlaceBalance{Place: r.Place, Points: []protocol.BalancePoint{}})
			clear(people)
		}
		p := &b.Places[len(b.Places)-1]
		for _, name := range r.People {
			people[name] = true
		}
		p.People = len(people)
		p.Runs += r.Runs
		p.SavedSeconds += r.Saved
		p.CostSeconds += r.Cost
		at := since.Add(time.Duration((float64(r.N) + 0.5) * width * float64(time.Second)))
		p.Points = append(p.Points, protocol.BalancePoint{At: at.UTC(), Runs: r.Runs, SavedSeconds: r.Saved, CostSeconds: r.Cost})
		b.Runs += r.Runs
		b.SavedSeconds += r.Saved
		b.CostSeconds += r.Cost
	}
	return b, nil
}
