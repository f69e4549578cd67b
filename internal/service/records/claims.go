package records

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// claimLock is the class of the advisory locks by which claims of one key take turns.
const claimLock = 0x10f7_0003

// claimRow is a claim with its age by the database's clock.
type claimRow struct {
	protocol.HeldClaim
	Shelf string            `db:"shelf"`
	Token int64             `db:"token_id"`
	Ended protocol.ClaimEnd `db:"ended"`
	Alive bool              `db:"alive"`
}

// Claim grants a claim for a lease, unless another run holds one for the same key, on a
// shelf that the token reads or writes, that is not overdue. A task that the client does
// not know is expected to take what it took when its newest entry was made. If that is not
// worth a claim, the answer is empty.
func (db *DB) Claim(ctx context.Context, t Token, c protocol.Claim, lease time.Duration) (answer protocol.ClaimAnswer, err error) {
	if c.Seconds == 0 {
		if c.Seconds, err = db.lastSeconds(ctx, t, c.Task); err != nil || !decide.IsWorthClaiming(c.Seconds) {
			return answer, err
		}
	}
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1, hashtext($2))`, claimLock, c.Key.String()); err != nil {
			return err
		}
		var rows []claimRow
		if err := tx.SelectContext(ctx, &rows, `
			SELECT id, run_id AS run, name, host, place, seconds, shelf, token_id, ended, lease_until > now() AS alive,
				greatest(0, extract(epoch FROM now() - began_at))::float8 AS elapsed
			FROM claims WHERE repository_id = $1 AND key = $2`, t.RepositoryID, c.Key[:]); err != nil {
			return err
		}
		for _, r := range rows {
			switch {
			case !r.Alive || r.Run == c.Run && r.Token == t.ID || r.Shelf != c.Shelf && !t.MayRead(r.Shelf):
			case r.Ended != "" && r.ID == c.After:
				answer = protocol.ClaimAnswer{Ended: r.Ended}
				return nil
			case r.Ended == "" && !(r.Seconds > 0 && r.Elapsed > decide.Overdue*r.Seconds):
				answer = protocol.ClaimAnswer{Held: &r.HeldClaim}
				return nil
			}
		}
		var shelves []string
		if err := tx.SelectContext(ctx, &shelves, `
			SELECT shelf FROM entries WHERE repository_id = $1 AND key = $2`, t.RepositoryID, c.Key[:]); err != nil {
			return err
		}
		if answer.Stored = slices.ContainsFunc(shelves, t.MayRead); answer.Stored {
			return nil
		}
		return tx.GetContext(ctx, &answer.Granted, `
			INSERT INTO claims (repository_id, key, shelf, token_id, run_id, task, name, host, place, seconds, lease_until)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, now() + make_interval(secs => $11))
			ON CONFLICT (repository_id, key, shelf) DO UPDATE SET id = DEFAULT, token_id = excluded.token_id, run_id = excluded.run_id,
				task = excluded.task, name = excluded.name, host = excluded.host, place = excluded.place, seconds = excluded.seconds,
				began_at = now(), lease_until = excluded.lease_until, ended = ''
			RETURNING id`,
			t.RepositoryID, c.Key[:], c.Shelf, t.ID, c.Run, c.Task, t.Name, c.Host, c.Place, c.Seconds, lease.Seconds())
	})
	return answer, err
}

// lastSeconds returns how long a task took when its newest entry was made; 0: unknown.
func (db *DB) lastSeconds(ctx context.Context, t Token, task string) (s float64, err error) {
	err = db.GetContext(ctx, &s, `
		SELECT seconds FROM entries WHERE repository_id = $1 AND task = $2 AND shelf LIKE ANY($3)
		ORDER BY made_at DESC LIMIT 1`, t.RepositoryID, task, matchesPattern(t.ReadsFrom))
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return s, err
}

// RenewClaim extends a claim by a lease. The error wraps [ErrNotExist] if it ended, or
// another client took it over.
func (db *DB) RenewClaim(ctx context.Context, t Token, id int64, lease time.Duration) error {
	return db.changeClaim(ctx, `
		UPDATE claims SET lease_until = now() + make_interval(secs => $4)
		WHERE repository_id = $1 AND id = $2 AND token_id = $3 AND ended = ''`, t.RepositoryID, id, t.ID, lease.Seconds())
}

// EndClaim ends a claim without a result. It is kept for one more lease.
func (db *DB) EndClaim(ctx context.Context, t Token, id int64, end protocol.ClaimEnd, lease time.Duration) error {
	return db.changeClaim(ctx, `
		UPDATE claims SET ended = $4, lease_until = now() + make_interval(secs => $5)
		WHERE repository_id = $1 AND id = $2 AND token_id = $3 AND ended = ''`, t.RepositoryID, id, t.ID, string(end), lease.Seconds())
}

func (db *DB) changeClaim(ctx context.Context, q string, args ...any) error {
	res, err := db.ExecContext(ctx, q, args...)
	if err != nil {
		return err
	}
	n, err := res.RowsAffected()
	if err == nil && n == 0 {
		err = missingf("claim")
	}
	return err
}

// fulfilClaim removes the claim of a key on a shelf whose result is stored.
func fulfilClaim(ctx context.Context, tx *sqlx.Tx, repository int64, shelf string, k digest.Digest) error {
	_, err := tx.ExecContext(
		ctx,
		`DELETE FROM claims WHERE repository_id = $1 AND key = $2 AND shelf = $3`,
		repository,
		k[:],
		shelf,
	)
	return err
}
