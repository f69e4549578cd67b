package records

import (
	"context"
	"errors"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// A result that turned out to be wrong is withdrawn from its shelf: its listing is never offered or
// stored under its key again, for the 180 days after which nothing would offer it any more.

// ErrWithdrawn is returned for an entry whose listing was withdrawn.
var ErrWithdrawn = errors.New("these outputs were withdrawn for this key: something that the task does not declare differs")

// mostWithdrawals is how many withdrawals of one shelf are kept, the newest.
const mostWithdrawals = 100_000

// Withdraw withdraws a listing under a key from a shelf. It tells whether the shelf had it.
func (db *DB) Withdraw(ctx context.Context, t Token, shelf string, key, list digest.Digest) (removed bool, err error) {
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		removed, err = withdraw(ctx, tx, t, result{shelf, key, list[:]})
		return err
	})
	return removed, err
}

// result is a listing that a shelf may have under a key.
type result struct {
	shelf string
	key   digest.Digest
	list  []byte
}

func withdraw(ctx context.Context, tx *sqlx.Tx, t Token, r result) (removed bool, err error) {
	if _, err := tx.ExecContext(ctx, `
		INSERT INTO withdrawals (repository_id, shelf, key, listing, name) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING`,
		t.RepositoryID, r.shelf, r.key[:], r.list, t.Name); err != nil {
		return false, err
	}
	if _, err := tx.ExecContext(ctx, `
		DELETE FROM withdrawals WHERE repository_id = $1 AND shelf = $2 AND at < (
			SELECT at FROM withdrawals WHERE repository_id = $1 AND shelf = $2 ORDER BY at DESC OFFSET $3 LIMIT 1)`,
		t.RepositoryID, r.shelf, mostWithdrawals); err != nil {
		return false, err
	}
	res, err := tx.ExecContext(ctx, `
		DELETE FROM entries WHERE repository_id = $1 AND shelf = $2 AND key = $3 AND listing = $4`,
		t.RepositoryID, r.shelf, r.key[:], r.list)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// makeWay refuses an entry that was withdrawn, and withdraws what the shelf has if the task was
// executed again because of it.
func makeWay(ctx context.Context, tx *sqlx.Tx, t Token, shelf string, e protocol.Entry) error {
	var was bool
	if err := tx.GetContext(ctx, &was, `
		SELECT EXISTS (SELECT FROM withdrawals WHERE repository_id = $1 AND shelf = $2 AND key = $3 AND listing = $4)`,
		t.RepositoryID, shelf, e.Key[:], e.Listing[:]); err != nil {
		return err
	}
	if was {
		return ErrWithdrawn
	}
	if !e.Again {
		return nil
	}
	var others [][]byte
	if err := tx.SelectContext(ctx, &others, `
		SELECT listing FROM entries WHERE repository_id = $1 AND shelf = $2 AND key = $3 AND listing <> $4`,
		t.RepositoryID, shelf, e.Key[:], e.Listing[:]); err != nil {
		return err
	}
	for _, list := range others {
		if _, err := withdraw(ctx, tx, t, result{shelf, e.Key, list}); err != nil {
			return err
		}
	}
	return nil
}
