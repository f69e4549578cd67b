package records

import (
	"bytes"
	"context"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

const (
	// smallPack is the number of bytes below which a pack is put together with others, once
	// it is a day old.
	smallPack = 1 << 20
	// fewPacks is how many small packs are not worth that.
	fewPacks = 8
)

// WornPacks returns the packs of a repository that are worth being written again: those of
// which less than half is live, and small ones, if there are many.
func (db *DB) WornPacks(ctx context.Context, repository int64) (objects []string, err error) {
	var rows []struct {
		Object string `db:"object"`
		Sparse bool   `db:"sparse"`
	}
	if err := db.SelectContext(ctx, &rows, `
		SELECT object, live < bytes / 2 AS sparse FROM (
			SELECT p.object, p.bytes, p.made_at, sum(b.packed) AS live FROM packs p JOIN blobs b ON b.object = p.object
			WHERE p.repository_id = $1 AND b.marked_at IS NULL GROUP BY p.object) n
		WHERE live < bytes / 2 OR bytes < $2 AND made_at < now() - interval '1 day' ORDER BY made_at, object`,
		repository, smallPack); err != nil {
		return nil, err
	}
	small := 0
	for _, r := range rows {
		if !r.Sparse {
			small++
		}
	}
	for _, r := range rows {
		if r.Sparse || small >= fewPacks {
			objects = append(objects, r.Object)
		}
	}
	return objects, nil
}

// PackedBlobs returns the blobs in packs that are not marked for deletion, in the order in
// which the packs contain them.
func (db *DB) PackedBlobs(ctx context.Context, packs []string) (out []Blob, err error) {
	return out, db.SelectContext(ctx, &out, `
		SELECT digest, object, position, packed, size, marked_at FROM blobs
		WHERE object = ANY($1) AND packed > 0 AND marked_at IS NULL ORDER BY array_position($1, object), position`, packs)
}

// Moved is a blob whose frame was copied.
type Moved struct {
	Blob
	To       string // the new pack
	Position int64  // there
}

// MovePacked makes the rows of blobs say where their frames were copied to, unless they say
// something else by now. The old packs are deleted after the delay, or when the last of
// their rows is gone.
func (db *DB) MovePacked(ctx context.Context, repository int64, list []Moved, delay time.Duration) error {
	slices.SortFunc(list, func(a, b Moved) int { return bytes.Compare(a.Digest, b.Digest) })
	news := make([]Stored, len(list))
	var ds [][]byte
	var from, to []string
	var was, is []int64
	for i, m := range list {
		news[i] = Stored{Digest: asDigest(m.Digest), Object: m.To, Packed: m.Packed}
		ds, from, to, was, is = append(
			ds,
			m.Digest,
		), append(
			from,
			m.Object,
		), append(
			to,
			m.To,
		), append(
			was,
			m.Blob.Position,
		), append(
			is,
			m.Position,
		)
	}
	c := columnsOf(news)
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := c.confirm(ctx, tx, repository); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			SELECT FROM `+named("FOR UPDATE"), repository, ds); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE blobs SET object = n.o, position = n.p
			FROM unnest($2::bytea[], $3::text[], $4::bigint[], $5::text[], $6::bigint[]) AS n (d, f, w, o, p)
			WHERE repository_id = $1 AND digest = n.d AND object = n.f AND position = n.w AND marked_at IS NULL`,
			repository, ds, from, was, to, is); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			DELETE FROM orphaned_objects d WHERE object = ANY($1) AND EXISTS (SELECT FROM blobs b WHERE b.object = d.object)`,
			c.distinct); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE orphaned_objects SET delete_after = now() WHERE object = ANY($1)`, c.distinct); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
			INSERT INTO orphaned_objects (object, repository_id, delete_after, size)
			SELECT object, repository_id, now() + make_interval(secs => $2), bytes FROM packs WHERE object = ANY($1)
			ON CONFLICT DO NOTHING`, from, delay.Seconds())
		return err
	})
}

// Repositories returns the numbers of all repositories.
func (db *DB) Repositories(ctx context.Context) (ids []int64, err error) {
	return ids, db.SelectContext(ctx, &ids, `SELECT id FROM repositories ORDER BY id`)
}
