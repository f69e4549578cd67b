package fleet

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/core/shelf"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// ErrGone says that a job is not the runner's any more: it was lost, or it ended.
var ErrGone = ConflictError{"the job is not this runner's any more"}

// tokenLife is how long the token of a job is valid at most.
const tokenLife = 24 * time.Hour

// held is a job in the hands of a runner.
type held struct {
	ID        int64  `db:"id"`
	Request   int64  `db:"request_id"`
	Attempt   int    `db:"attempt"`
	Name      string `db:"name"`
	Shelf     string `db:"shelf"`
	Guarded   bool   `db:"protected"`
	Cancelled bool   `db:"cancelled"`
	Branch    string `db:"branch"`
	Runner    string `db:"runner"`
}

// hold locks a job that a runner with this token carries out, in this attempt.
func hold(ctx context.Context, tx *sqlx.Tx, t records.Token, job int64, attempt int) (h held, err error) {
	err = tx.GetContext(ctx, &h, `
		SELECT j.id, j.request_id, j.attempt, q.name, q.shelf, q.protected, q.cancelled_by <> '' AS cancelled,
			coalesce(q.ask->>'branch', '') AS branch, coalesce(r.hello->>'name', '') AS runner
		FROM jobs j JOIN requests q ON q.id = j.request_id JOIN runners r ON r.id = j.runner_id
		WHERE j.repository_id = $1 AND j.id = $2 AND j.attempt = $3 AND j.state = 'running' AND r.token_id = $4
		FOR UPDATE OF q, j`, t.RepositoryID, job, attempt, t.ID)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrGone
	}
	return h, err
}

// Start gives a job its token. A protected one needs a protected branch that has its commit.
func (f *Fleet) Start(ctx context.Context, t records.Token, job int64, s protocol.JobStart) (started protocol.JobStarted, err error) {
	return started, f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		h, err := hold(ctx, tx, t, job, s.Attempt)
		if err != nil {
			return err
		}
		if h.Cancelled {
			return ErrGone
		}
		p, err := protection(ctx, tx, t.RepositoryID)
		if err != nil {
			return err
		}
		// The pool may have become protected since, or the other way round.
		if h.Guarded && !p.HasRef(s.Ref) || h.Shelf == shelf.Trusted && !h.Guarded {
			return ConflictError{fmt.Sprintf("commit %.12s is on no protected branch", s.Commit)}
		}
		until := time.Now().Add(tokenLife)
		own := records.Token{
			Repository: t.Repository, RepositoryID: t.RepositoryID, Name: h.Name, WritesTo: h.Shelf, ReadsFrom: []string{shelf.Trusted},
			ExpiresAt: &until, MadeBy: "runner " + h.Runner,
		}
		if h.Shelf != shelf.Trusted {
			own.ReadsFrom = []string{h.Shelf, shelf.Trusted}
		}
		if started.Token, err = records.NewJobToken(ctx, tx, job, own); err != nil {
			return err
		}
		if _, err = tx.ExecContext(ctx, `UPDATE jobs SET commit = $2 WHERE id = $1`, job, s.Commit); err != nil {
			return err
		}
		return records.NotifyRequest(ctx, tx, t.RepositoryID, h.Request, false)
	})
}

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(2*protocol.MaxPlan))
)

// End records how a job ended. A job that is given back goes to another runner.
func (f *Fleet) End(ctx context.Context, t records.Token, job int64, e protocol.JobEnd) error {
	return f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		h, err := hold(ctx, tx, t, job, e.Attempt)
		if err != nil {
			return err
		}
		if e.State == fleet.Lost || e.State == fleet.Queued {
			return f.lose(ctx, tx, job, loss{e.Message, e.State == fleet.Lost})
		}
		if h.Cancelled && e.State == fleet.Failed {
			e.State = fleet.Cancelled
		}
		var plan []byte
		if e.Plan != "" {
			plan = packer.EncodeAll([]byte(e.Plan), nil)
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE jobs SET state = $2, exit = $3, message = $4, plan = $5, ended_at = now(), lease_until = NULL WHERE id = $1`,
			job, string(e.State), e.Exit, e.Message, plan); err != nil {
			return err
		}
		if err := records.EndJobToken(ctx, tx, job); err != nil {
			return err
		}
		return settle(ctx, tx, t.RepositoryID, h.Request, false)
	})
}

// loss is the end of an attempt without a result.
type loss struct {
	why    string
	counts bool // otherwise the runner gave the job back before its own end
}

// lose ends an attempt of a job without a result. The job goes back into the queue, or, after
// the last attempt, is lost.
func (f *Fleet) lose(ctx context.Context, tx *sqlx.Tx, job int64, l loss) error {
	var row struct {
		Repository int64  `db:"repository_id"`
		Request    int64  `db:"request_id"`
		Attempt    int    `db:"attempt"`
		Losses     int    `db:"losses"`
		Cancelled  bool   `db:"cancelled"`
		Pool       string `db:"pool"`
		Priority   int    `db:"priority"`
		Runner     string `db:"runner"`
	}
	err := tx.GetContext(ctx, &row, `
		SELECT j.repository_id, j.request_id, j.attempt, j.losses, q.cancelled_by <> '' AS cancelled, q.pool,
			(q.ask->>'priority')::int AS priority, coalesce(r.hello->>'name', '') AS runner
		FROM jobs j JOIN requests q ON q.id = j.request_id LEFT JOIN runners r ON r.id = j.runner_id
		WHERE j.id = $1 AND j.state = 'running' FOR UPDATE OF q, j`, job)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	if l.counts {
		row.Losses++
	}
	state := fleet.AfterLoss(row.Losses, row.Attempt, row.Cancelled)
	message := fmt.Sprintf("runner %s: %s", row.Runner, l.why)
	if _, err := tx.ExecContext(ctx, `
		UPDATE jobs SET state = $2, lease_until = NULL, runner_id = CASE WHEN $3 THEN runner_id END, message = $4,
			ended_at = CASE WHEN $3 THEN now() END, losses = $5
		WHERE id = $1`, job, string(state), state.HasEnded(), message, row.Losses); err != nil {
		return err
	}
	if err := records.EndJobToken(ctx, tx, job); err != nil {
		return err
	}
	if state == fleet.Queued {
		o := Offer{row.Repository, job, row.Attempt, queueOf(row.Repository, row.Pool), row.Priority}
		if err := f.Queue.Insert(ctx, tx.Tx, o); err != nil {
			return err
		}
		again := []string{message + "; another runner starts again"}
		if err := addLines(ctx, tx, row.Request, chunk{job, row.Attempt, -1, again}); err != nil {
			return err
		}
	}
	return settle(ctx, tx, row.Repository, row.Request, true)
}

// LoseOverdue takes jobs from runners that have not reported for a lease, and returns how
// many.
func (f *Fleet) LoseOverdue(ctx context.Context) (n int, err error) {
	var overdue []int64
	if err := f.DB.SelectContext(ctx, &overdue, `SELECT id FROM jobs WHERE state = 'running' AND lease_until < now()`); err != nil {
		return 0, err
	}
	for _, job := range overdue {
		err := f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
			var still bool
			if err := tx.GetContext(ctx, &still, `
				SELECT coalesce(state = 'running' AND lease_until < now(), false) FROM jobs WHERE id = $1`, job); err != nil || !still {
				return err
			}
			n++
			return f.lose(ctx, tx, job, loss{"it does not report any more", true})
		})
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// Plan returns the plan of a preview.
func (f *Fleet) Plan(ctx context.Context, repository, request int64) ([]byte, error) {
	var text []byte
	err := f.DB.GetContext(ctx, &text, `
		SELECT plan FROM jobs WHERE repository_id = $1 AND request_id = $2 AND plan IS NOT NULL LIMIT 1`, repository, request)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, missing("plan of request", request)
	}
	if err != nil {
		return nil, err
	}
	return unpacker.DecodeAll(text, nil)
}
