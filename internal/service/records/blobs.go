package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
)

// lease is how long a blob is safe from the sweeper after somebody asked for
// it or sent it.
const lease = "24 hours"

// Blob is a stored blob.
type Blob struct {
	Digest    []byte     `db:"digest"`
	Object    string     `db:"object"`
	Size      int64      `db:"size"`
	Condemned *time.Time `db:"condemned_at"`
}

// Missing returns which digests the repository lacks, and leases the others.
func (db *DB) Missing(ctx context.Context, repository int64, list []digest.Digest) ([]digest.Digest, error) {
	var have [][]byte
	err := db.SelectContext(ctx, &have, `
		UPDATE blobs SET leased_until = greatest(leased_until, now() + interval '`+lease+`')
		WHERE repository_id = $1 AND condemned_at IS NULL AND digest IN (
			SELECT digest FROM blobs WHERE repository_id = $1 AND digest = ANY($2) ORDER BY digest FOR UPDATE)
		RETURNING digest`, repository, digests(list))
	if err != nil {
		return nil, err
	}
	there := map[digest.Digest]bool{}
	for _, b := range have {
		there[asDigest(b)] = true
	}
	out := []digest.Digest{}
	for _, d := range list {
		if !there[d] {
			there[d] = true
			out = append(out, d)
		}
	}
	return out, nil
}

// Blob returns a blob that is not condemned.
func (db *DB) Blob(ctx context.Context, repository int64, d digest.Digest) (Blob, error) {
	var b Blob
	err := db.GetContext(ctx, &b, `
		SELECT digest, object, size, condemned_at FROM blobs
		WHERE repository_id = $1 AND digest = $2 AND condemned_at IS NULL`, repository, d[:])
	return b, missing(err, "blob "+d.Short())
}

// Blobs returns those of the blobs that are there and not condemned.
func (db *DB) Blobs(ctx context.Context, repository int64, list []digest.Digest) (map[digest.Digest]Blob, error) {
	var rows []Blob
	err := db.SelectContext(ctx, &rows, `
		SELECT digest, object, size, condemned_at FROM blobs
		WHERE repository_id = $1 AND digest = ANY($2) AND condemned_at IS NULL`, repository, digests(list))
	out := map[digest.Digest]Blob{}
	for _, b := range rows {
		out[asDigest(b.Digest)] = b
	}
	return out, err
}

// PutBlob notes a stored object, and leases it. Where another object holds the
// same digest already, that one stays, and kept is false: the new object is
// not needed.
func (db *DB) PutBlob(ctx context.Context, repository int64, d digest.Digest, object string, size int64) (kept bool, err error) {
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		var have Blob
		err := tx.GetContext(ctx, &have, `
			SELECT digest, object, size, condemned_at FROM blobs WHERE repository_id = $1 AND digest = $2 FOR UPDATE`, repository, d[:])
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if err == nil && have.Condemned == nil {
			_, err = tx.ExecContext(ctx, `
				UPDATE blobs SET leased_until = greatest(leased_until, now() + interval '`+lease+`')
				WHERE repository_id = $1 AND digest = $2`, repository, d[:])
			return err
		}
		var stored string
		err = tx.GetContext(ctx, &stored, `
			INSERT INTO blobs (repository_id, digest, object, size, leased_until)
			VALUES ($1, $2, $3, $4, now() + interval '`+lease+`')
			ON CONFLICT (repository_id, digest) DO UPDATE SET
				object = CASE WHEN blobs.condemned_at IS NULL THEN blobs.object ELSE excluded.object END,
				leased_until = excluded.leased_until, condemned_at = NULL
			RETURNING object`, repository, d[:], object, size)
		kept = stored == object
		return err
	})
	return kept, err
}
