package records

import (
	"context"
	"database/sql"
	"encoding/base32"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/protocol"
)

// ErrOthers is returned for events of a run that another token announced.
var ErrOthers = errors.New("another token announced this run")

var runIDs = base32.HexEncoding.WithPadding(base32.NoPadding)

// beganOf returns when a run began: the time that its id carries, a version 7
// UUID (RFC 9562) in base 32. For another id it is the time that the client
// names. It selects the partition of the run's records.
func beganOf(r protocol.Run) time.Time {
	b, err := runIDs.DecodeString(strings.ToUpper(r.ID))
	if err != nil || len(b) != len(uuid.UUID{}) || uuid.UUID(b).Version() != 7 {
		return r.Started
	}
	sec, nsec := uuid.UUID(b).Time().UnixTime()
	return time.Unix(sec, nsec)
}

// StartRun records a run. A run that is already known stays unchanged. It tells
// whether the graph that the run names is known.
func (db *DB) StartRun(ctx context.Context, t Token, r protocol.Run) (graphKnown bool, err error) {
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		follows, err := joinAs(ctx, tx, t, &r)
		if err != nil {
			return err
		}
		words := strings.ToLower(strings.Join(append([]string{r.ID, t.Name, r.Host, r.Place, r.Branch, r.Commit}, r.Requested...), " "))
		if _, err := tx.ExecContext(ctx, `
			INSERT INTO runs (repository_id, id, began, token_id, name, host, place, branch, commit, shelf,
				requested, no_reuse, jobs, tasks, started_at, graph, words, join_id, follows)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19) ON CONFLICT DO NOTHING`,
			t.RepositoryID, r.ID, beganOf(r), t.ID, t.Name, r.Host, r.Place, r.Branch, r.Commit, t.WritesTo, append([]string{},
				r.Requested...),
			r.NoReuse, r.Jobs, r.Tasks, r.Started, optional(r.Graph), words, r.Join, follows); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &graphKnown, `
			SELECT EXISTS (SELECT FROM graphs WHERE repository_id = $1 AND digest = $2)`, t.RepositoryID, optional(r.Graph)); err != nil {
			return err
		}
		return Notify(ctx, tx, t.RepositoryID, r.ID)
	})
	return graphKnown, err
}

// joinAs tells whether another run stands for this one where runs are listed: the first member of
// its join that was recorded. A run that is no member has no join.
func joinAs(ctx context.Context, tx *sqlx.Tx, t Token, r *protocol.Run) (follows bool, err error) {
	if r.Join == "" {
		return false, nil
	}
	var first string
	err = tx.GetContext(ctx, &first, `
		UPDATE joins j SET first_run = coalesce(first_run, $4) WHERE repository_id = $1 AND shelf = $2 AND id = $3
			AND EXISTS (SELECT FROM join_members m WHERE m.repository_id = $1 AND m.shelf = $2 AND m.join_id = $3
				AND m.token_id = $5 AND m.run_id = $4)
		RETURNING first_run`, t.RepositoryID, t.Shelf(), r.Join, r.ID, t.ID)
	if errors.Is(err, sql.ErrNoRows) {
		r.Join = ""
		return false, nil
	}
	return first != r.ID, err
}

// GapError says that events are missing between those that the service has and
// those that were sent.
type GapError struct{ Through, Got int64 }

func (e GapError) Error() string {
	return fmt.Sprintf("event %d was sent, but the service has events only up to %d", e.Got, e.Through)
}

// runHead is what is needed of a run to add events to it.
type runHead struct {
	Repository int64
	ID         string
	Began      time.Time `db:"began"`
	Place      string    `db:"place"`
	Through    int64     `db:"through"`
	TokenID    int64     `db:"token_id"`
}

// AddEvents applies new events, in order; known ones are skipped. It returns
// the number up to which the service has all events.
func (db *DB) AddEvents(ctx context.Context, t Token, run string, events []protocol.Event) (through int64, err error) {
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		head := runHead{Repository: t.RepositoryID, ID: run}
		if err := tx.GetContext(ctx, &head, `
			SELECT began, place, through, token_id FROM runs WHERE repository_id = $1 AND id = $2 FOR UPDATE`, t.RepositoryID,
			run); err != nil {
			return missing(err, "run "+run)
		}
		if head.TokenID != t.ID {
			return ErrOthers
		}
		fresh, err := newEvents(head.Through, events)
		through = head.Through + int64(len(fresh))
		if err != nil || len(fresh) == 0 {
			return err
		}
		finished, err := apply(ctx, tx, head, fresh)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE runs SET through = $3, touched_at = now() WHERE repository_id = $1 AND id = $2`, t.RepositoryID, run,
			through); err != nil {
			return err
		}
		if finished && db.Finished != nil {
			if err := db.Finished(ctx, tx.Tx, t.RepositoryID, run); err != nil {
				return err
			}
		}
		return Notify(ctx, tx, t.RepositoryID, run)
	})
	return through, err
}

// newEvents returns the events that follow those that the service has.
func newEvents(through int64, events []protocol.Event) ([]protocol.Event, error) {
	var fresh []protocol.Event
	for _, e := range events {
		if e.Seq <= through {
			continue
		}
		if through++; e.Seq != through {
			return nil, GapError{through - 1, e.Seq}
		}
		fresh = append(fresh, e)
	}
	return fresh, nil
}

// apply records events, and tells whether the run has ended.
func apply(ctx context.Context, tx *sqlx.Tx, run runHead, events []protocol.Event) (finished bool, err error) {
	b := newBatch(run)
	for _, e := range events {
		b.add(e)
	}
	if err := b.write(ctx, tx); err != nil {
		return false, err
	}
	if b.finish != nil {
		return true, finishRun(ctx, tx, run, *b.finish)
	}
	// Events after the end correct records that are already part of the rollups.
	return false, nil
}

// finishRun ends a run. What the records of its tasks tell is computed from them.
func finishRun(ctx context.Context, tx *sqlx.Tx, run runHead, f protocol.RunFinish) error {
	sent, err := sentRows(f.Sent)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `
		UPDATE run_tasks t SET bytes_out = s.bytes FROM jsonb_to_recordset($4::jsonb) AS s (task text, bytes bigint)
			JOIN tasks n ON n.repository_id = $1 AND n.name = s.task
		WHERE t.repository_id = $1 AND t.began = $2 AND t.run_id = $3 AND t.task_id = n.id`,
		run.Repository, run.Began, run.ID, sent); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		UPDATE runs SET finished_at = started_at + make_interval(secs => $4), ok = $5, interrupted = $6, seconds = $4,
			cost_seconds = $7, bytes_out = $8
		WHERE repository_id = $1 AND id = $3 AND began = $2`,
		run.Repository, run.Began, run.ID, f.Seconds, f.OK, f.Interrupted, f.CostSeconds, f.BytesOut)
	if err != nil {
		return err
	}
	if err := endLogs(ctx, tx, run, nil); err != nil {
		return err
	}
	return CountTasks(ctx, tx, run.Repository, run.Began, run.ID)
}

// CountTasks computes what a run's row says about its tasks from their records.
func CountTasks(ctx context.Context, tx *sqlx.Tx, repository int64, began time.Time, run string) error {
	_, err := tx.ExecContext(ctx, `
		UPDATE runs SET saved_seconds = t.saved, fetch_seconds = t.fetching, bytes_in = t.bytes,
			n_current = t.n[1], n_cached = t.n[2], n_restored = t.n[3], n_fetched = t.n[4], n_ran = t.n[5], n_failed = t.n[6],
			n_blocked = t.n[7], n_stopped = t.n[8], n_not_started = t.n[9]
		FROM (SELECT coalesce(sum(saved_seconds + seconds) FILTER (WHERE saved_seconds <> 0), 0) AS saved,
			coalesce(sum(fetch_seconds), 0) AS fetching, coalesce(sum(bytes_in), 0)::bigint AS bytes,
			ARRAY[count(*) FILTER (WHERE outcome = 'current'), count(*) FILTER (WHERE outcome = 'cached'),
				count(*) FILTER (WHERE outcome = 'restored'), count(*) FILTER (WHERE outcome = 'fetched'),
				count(*) FILTER (WHERE outcome = 'ran'), count(*) FILTER (WHERE outcome = 'failed'),
				count(*) FILTER (WHERE outcome = 'blocked'), count(*) FILTER (WHERE outcome = 'stopped'),
				count(*) FILTER (WHERE outcome = 'not-started')] AS n
			FROM run_tasks WHERE repository_id = $1 AND began = $2 AND run_id = $3 AND NOT running) t
		WHERE repository_id = $1 AND id = $3`, repository, began, run)
	return err
}
