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
	// perMember is how many bytes are added to the size of each blob, so that empty ones count.
	perMember = 512
)

// WornPacks returns the packs of a repository that are worth being written again: those with
// less than half of their contents live, and small ones, if there are many.
func (db *DB) WornPacks(ctx context.Context, repository int64) (objects []string, err error) {
	var rows []struct {
		Object string `db:"object"`
		Sparse bool   `db:"sparse"`
	}
	if err := db.SelectContext(ctx, &rows, `
		SELECT object, live < whole / 2 AS sparse FROM (
			SELECT p.object, p.bytes, p.made_at, coalesce(p.contents, p.bytes) AS whole,
				sum(CASE WHEN p.contents IS NULL THEN b.packed ELSE b.size + $3 END) AS live
			FROM packs p JOIN blobs b ON b.object = p.object
			WHERE p.repository_id = $1 AND b.marked_at IS NULL GROUP BY p.object) n
		WHERE live < whole / 2 OR bytes < $2 AND made_at < now() - interval '1 day' ORDER BY made_at, object`,
		repository, smallPack, perMember); err != nil {
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
	To     string // the new pack
	At     int64  // position of its frame there
	Length int64  // of its frame there
}

// MovePacked makes the rows of blobs say where their frames were copied to, unless they say
// something else by now. The old packs are deleted after the delay, or when the last of
// their rows is gone.
func (db *DB) MovePacked(ctx context.Context, repository int64, list []Moved, delay time.Duration) error {
	slices.SortFunc(list, func(a, b Moved) int { return bytes.Compare(a.Digest, b.Digest) })
	news := make([]Stored, len(list))
	from, was := make([]string, len(list)), make([]int64, len(list))
	for i, m := range list {
		news[i] = Stored{Digest: asDigest(m.Digest), Object: m.To, Position: m.At, Packed: m.Length, Size: m.Size}
		from[i], was[i] = m.Object, m.Position
	}
	c := columnsOf(news)
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := c.confirm(ctx, tx, repository); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			SELECT FROM `+named("FOR UPDATE"), repository, c.digests); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE blobs SET object = n.o, position = n.p, packed = n.l
			FROM unnest($2::bytea[], $3::text[], $4::bigint[], $5::text[], $6::bigint[], $7::bigint[]) AS n (d, f, w, o, p, l)
			WHERE repository_id = $1 AND digest = n.d AND object = n.f AND position = n.w AND marked_at IS NULL`,
			repository, c.digests, from, was, c.objects, c.positions, c.packed); err != nil {
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
