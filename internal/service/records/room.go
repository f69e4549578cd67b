package records

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/shelf"
)

// RowCost is how many bytes each blob counts in addition to its content: its row, its part of two
// indexes, and the rest of a block of the disk.
const RowCost = 1024

// weight is how many bytes a row of blobs counts, and entryWeight one of entries at least: it has a
// listing, ingredients and a file.
var (
	weight      = fmt.Sprintf("(size + %d)", RowCost)
	entryWeight = fmt.Sprintf("(bytes + 3 * %d)", RowCost)
)

// A repository or an owner above nine tenths of its quota is brought down to
// eight tenths: uploads stop only at the quota itself, so there is always room
// again.
func isNearlyFull(bytes, quota int64) bool { return quota > 0 && bytes > quota/10*9 }

func tooMany(bytes, quota int64) int64 { return bytes - quota/10*8 }

// makeRoom keeps a repository, and what each owner uploaded to it, below their
// quotas. Blobs that nothing names go first, then the least recently used
// entries of the shelves that hold too much.
func (db *DB) makeRoom(ctx context.Context, r ward, s *Cleanup) error {
	own, err := db.ShelfQuotas(ctx, r.ID)
	if err != nil || r.Quota == 0 && len(own) == 0 {
		return err
	}
	owners, err := db.ownedBytes(ctx, r.ID)
	if err != nil {
		return err
	}
	for _, o := range owners {
		limit := shelf.Limit(o.Shelf, r.Quota, own)
		if !isNearlyFull(o.Bytes, limit) {
			continue
		}
		if err := db.makeRoomOf(ctx, r.ID, o.Shelf, tooMany(o.Bytes, limit), s); err != nil {
			return err
		}
	}
	return db.makeRoomInAll(ctx, r, s)
}

// makeRoomOf removes bytes that an owner uploaded.
func (db *DB) makeRoomOf(ctx context.Context, repository int64, owner string, need int64, s *Cleanup) error {
	freed, err := db.markUnnamed(ctx, repository, owner, need, s)
	if err != nil || freed >= need {
		return err
	}
	charges, err := db.charges(ctx, repository)
	if err != nil {
		return err
	}
	need -= freed
	for _, c := range charges {
		if need > 0 && (c.Shelf == owner || shelf.Matches(owner, c.Shelf)) {
			if err := db.evictLeastUsed(ctx, repository, c.Shelf, need, s); err != nil {
				return err
			}
			need -= c.Bytes
		}
	}
	return db.markForDeletion(ctx, repository, s)
}

// makeRoomPasses limits how often entries are evicted in one cleanup: outputs
// that several entries share become free only with the last of them.
const makeRoomPasses = 5

func (db *DB) makeRoomInAll(ctx context.Context, r ward, s *Cleanup) error {
	for range makeRoomPasses {
		bytes, err := db.liveBytes(ctx, r.ID)
		if err != nil || !isNearlyFull(bytes, r.Quota) {
			return err
		}
		need := tooMany(bytes, r.Quota)
		freed, err := db.markUnnamed(ctx, r.ID, "", need, s)
		if err != nil || freed >= need {
			return err
		}
		charges, err := db.charges(ctx, r.ID)
		if err != nil {
			return err
		}
		losses := shelf.Losses(charges, r.Quota, need-freed)
		if len(losses) == 0 {
			return nil
		}
		for _, l := range losses {
			if err := db.evictLeastUsed(ctx, r.ID, l.Shelf, l.Bytes, s); err != nil {
				return err
			}
		}
		if err := db.markForDeletion(ctx, r.ID, s); err != nil {
			return err
		}
	}
	return nil
}

// ownedBytes returns how many bytes each owner uploaded, largest first.
func (db *DB) ownedBytes(ctx context.Context, repository int64) (out []shelf.Charge, err error) {
	return out, db.SelectContext(ctx, &out, `
		SELECT owner AS shelf, sum(`+weight+`)::bigint AS bytes FROM blobs WHERE repository_id = $1 AND marked_at IS NULL
		GROUP BY 1 ORDER BY 2 DESC`, repository)
}

// charges returns how many bytes the entries of each shelf name, at least.
func (db *DB) charges(ctx context.Context, repository int64) (out []shelf.Charge, err error) {
	return out, db.SelectContext(ctx, &out, `
		SELECT shelf, sum(`+entryWeight+`)::bigint AS bytes
		FROM (SELECT DISTINCT ON (shelf, listing) shelf, bytes FROM entries WHERE repository_id = $1) e
		GROUP BY 1 ORDER BY 2 DESC`, repository)
}

func (db *DB) liveBytes(ctx context.Context, repository int64) (n int64, err error) {
	return n, db.GetContext(ctx, &n, `
		SELECT coalesce(sum(`+weight+`), 0)::bigint FROM blobs WHERE repository_id = $1 AND marked_at IS NULL`, repository)
}

// markUnnamed marks blobs that nothing names, of one owner or, if that is empty,
// of the owners with most of them, oldest first, until they come to that many
// bytes. Their leases end: the room is needed now. A client that was about to
// name one is told, and sends it again.
func (db *DB) markUnnamed(ctx context.Context, repository int64, owner string, need int64, s *Cleanup) (freed int64, err error) {
	var rows struct {
		N     int64 `db:"n"`
		Bytes int64 `db:"bytes"`
	}
	err = db.GetContext(ctx, &rows, `
		WITH unnamed AS (
			SELECT digest, `+weight+` AS size, owner, stored_at FROM blobs b
			WHERE repository_id = $1 AND ($2 = '' OR owner = $2) AND marked_at IS NULL AND NOT `+referenced+`
			FOR UPDATE SKIP LOCKED),
		weighed AS (SELECT *, sum(size) OVER (PARTITION BY owner) AS owned FROM unnamed),
		ranked AS (SELECT digest, sum(size) OVER (ORDER BY owned DESC, owner, stored_at, digest) - size AS before FROM weighed),
		marked AS (
			UPDATE blobs SET marked_at = now(), leased_until = now() FROM ranked
			WHERE blobs.repository_id = $1 AND blobs.digest = ranked.digest AND ranked.before < $3 RETURNING `+weight+` AS size)
		SELECT count(*) AS n, coalesce(sum(size), 0)::bigint AS bytes FROM marked`, repository, owner, need)
	s.Marked += rows.N
	return rows.Bytes, err
}

// evictLeastUsed removes the least recently used entries of a shelf until their
// outputs come to that many bytes, and ends the leases of what they named.
func (db *DB) evictLeastUsed(ctx context.Context, repository int64, name string, bytes int64, s *Cleanup) error {
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		var gone []struct {
			Listing     []byte `db:"listing"`
			Ingredients []byte `db:"ingredients"`
			Log         []byte `db:"log"`
			Reports     []byte `db:"reports"`
		}
		if err := tx.SelectContext(ctx, &gone, `
			WITH gone AS (
				DELETE FROM entries e USING (
					SELECT key, sum(`+entryWeight+`) OVER (ORDER BY last_used, filed_at, key) - `+entryWeight+` AS before
					FROM entries WHERE repository_id = $1 AND shelf = $2) o
				WHERE e.repository_id = $1 AND e.shelf = $2 AND e.key = o.key AND o.before < $3
				RETURNING e.shelf, e.task, e.bytes, e.listing, e.ingredients, e.log, e.reports),
			`+fmt.Sprintf(noteEvictions, "quota")+`
			SELECT listing, ingredients, log, reports FROM gone`, repository, name, bytes); err != nil {
			return err
		}
		s.Entries += int64(len(gone))
		var listings, ingredients, named [][]byte
		for _, g := range gone {
			listings, ingredients = append(listings, g.Listing), append(ingredients, g.Ingredients)
			named = append(named, g.Listing, g.Ingredients, g.Log, g.Reports)
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE blobs SET leased_until = now() WHERE repository_id = $1 AND digest IN (
				SELECT digest FROM blobs WHERE repository_id = $1 AND digest IN (
					SELECT unnest($2::bytea[])
					UNION SELECT blob FROM listing_blobs WHERE repository_id = $1 AND listing = ANY($3)
					UNION SELECT blob FROM ingredient_blobs WHERE repository_id = $1 AND ingredients = ANY($4))
				ORDER BY digest FOR UPDATE)`, repository, named, listings, ingredients); err != nil {
			return err
		}
		return forgetReferences(ctx, tx, repository)
	})
}
