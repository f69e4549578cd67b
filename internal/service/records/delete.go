package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// referenced is the condition that something references blob b.
const referenced = `(
	EXISTS (SELECT FROM listing_blobs l WHERE l.repository_id = b.repository_id AND l.blob = b.digest)
	OR EXISTS (SELECT FROM ingredient_blobs i WHERE i.repository_id = b.repository_id AND i.blob = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.listing = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.ingredients = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.log = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.reports = b.digest)
	OR EXISTS (SELECT FROM requests q WHERE q.repository_id = b.repository_id AND q.changes = b.digest
		AND (q.ended_at IS NULL OR q.ended_at > now() - interval '7 days'))
	OR EXISTS (SELECT FROM run_tasks t WHERE t.repository_id = b.repository_id AND t.log = b.digest))`

// markForDeletion marks blobs that nothing references and nobody leases.
func (db *DB) markForDeletion(ctx context.Context, repository int64, s *Cleanup) error {
	// Rows that somebody has locked are skipped: they are in use.
	res, err := db.ExecContext(ctx, `
		UPDATE blobs SET marked_at = now() FROM (
			SELECT repository_id, digest FROM blobs b
			WHERE repository_id = $1 AND marked_at IS NULL AND leased_until <= now() AND NOT `+referenced+`
			FOR UPDATE SKIP LOCKED) u
		WHERE blobs.repository_id = u.repository_id AND blobs.digest = u.digest`, repository)
	if err == nil {
		n, _ := res.RowsAffected()
		s.Marked += n
	}
	return err
}

// unmark clears the mark of blobs that something references: an entry that was
// filed at the same moment.
func (db *DB) unmark(ctx context.Context, repository int64, s *Cleanup) error {
	res, err := db.ExecContext(ctx, `
		UPDATE blobs SET marked_at = NULL FROM (
			SELECT repository_id, digest FROM blobs b
			WHERE repository_id = $1 AND marked_at IS NOT NULL AND `+referenced+` FOR UPDATE SKIP LOCKED) u
		WHERE blobs.repository_id = u.repository_id AND blobs.digest = u.digest`, repository)
	if err == nil {
		n, _ := res.RowsAffected()
		s.Unmarked += n
	}
	return err
}

// cleanupBatch is how many blobs one transaction deletes.
const cleanupBatch = 500

// soonDelay is how long blobs wait for deletion once those that wait come to
// more than a tenth of the quota.
const soonDelay = time.Hour

// deletionDelay returns how long the blobs of a repository wait for deletion.
func (db *DB) deletionDelay(ctx context.Context, r ward, k Retention) (time.Duration, error) {
	if r.Quota == 0 || k.DeletionDelay <= soonDelay {
		return k.DeletionDelay, nil
	}
	stored, err := db.StoredBytes(ctx, r.ID)
	if err == nil && stored.Waiting > r.Quota/10 {
		return soonDelay, nil
	}
	return k.DeletionDelay, err
}

// deleteMarked deletes the rows of blobs that have been marked long enough,
// after checking again under their lock, and records their objects as orphaned.
func (db *DB) deleteMarked(ctx context.Context, r ward, k Retention, s *Cleanup) error {
	delay, err := db.deletionDelay(ctx, r, k)
	if err != nil {
		return err
	}
	for {
		var gone []goneBlob
		err := db.inTx(ctx, func(tx *sqlx.Tx) (err error) {
			gone, err = deleteSomeMarked(ctx, tx, r.ID, delay)
			return err
		})
		if err != nil {
			return err
		}
		for _, g := range gone {
			s.Deleted++
			s.Bytes += g.Size
		}
		if len(gone) < cleanupBatch {
			return nil
		}
	}
}

type goneBlob struct {
	Object string `db:"object"`
	Size   int64  `db:"size"`
}

func deleteSomeMarked(ctx context.Context, tx *sqlx.Tx, repository int64, delay time.Duration) (gone []goneBlob, err error) {
	var due [][]byte
	if err := tx.SelectContext(ctx, &due, `
		SELECT digest FROM blobs WHERE repository_id = $1 AND marked_at < now() - make_interval(secs => $2)
		ORDER BY digest LIMIT $3 FOR UPDATE SKIP LOCKED`, repository, delay.Seconds(), cleanupBatch); err != nil {
		return nil, err
	}
	// A separate statement: it sees what was filed before the lock.
	return gone, tx.SelectContext(ctx, &gone, `
		WITH gone AS (
			DELETE FROM blobs b WHERE b.repository_id = $1 AND b.digest = ANY($2) AND b.marked_at IS NOT NULL AND NOT `+referenced+`
			RETURNING b.repository_id, b.object, b.size),
		orphaned AS (INSERT INTO orphaned_objects (object, repository_id, delete_after, size)
			SELECT object, repository_id, now(), sum(size) FROM gone GROUP BY object, repository_id ON CONFLICT DO NOTHING)
		SELECT object, size FROM gone`, repository, due)
}

// deleteOrphaned deletes stored objects that no row names. Their rows stay
// locked meanwhile, so that an upload that completes at that moment finds out
// that it is too late.
func (db *DB) deleteOrphaned(ctx context.Context, repository int64, remove func(ctx context.Context, object string) error) error {
	for {
		n := 0
		err := db.inTx(ctx, func(tx *sqlx.Tx) (err error) {
			n, err = deleteSomeOrphaned(ctx, tx, repository, remove)
			return err
		})
		if err != nil || n < cleanupBatch {
			return err
		}
	}
}

type orphaned struct {
	Object string `db:"object"`
	Named  bool   `db:"named"` // a row names it by now
}

func deleteSomeOrphaned(ctx context.Context, tx *sqlx.Tx, repository int64, remove func(context.Context, string) error) (n int, err error) {
	var list []orphaned
	if err := tx.SelectContext(ctx, &list, `
		SELECT object, EXISTS (SELECT FROM blobs b WHERE b.repository_id = d.repository_id AND b.object = d.object) AS named
		FROM orphaned_objects d WHERE repository_id = $1 AND delete_after <= now() LIMIT $2 FOR UPDATE SKIP LOCKED`,
		repository, cleanupBatch); err != nil {
		return 0, err
	}
	done, failed := removeUnnamed(ctx, list, remove)
	if _, err = tx.ExecContext(ctx, `DELETE FROM orphaned_objects WHERE object = ANY($1)`, done); err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `
		DELETE FROM packs p WHERE object = ANY($1) AND NOT EXISTS (SELECT FROM blobs b WHERE b.object = p.object)`, done)
	if failed != nil && err == nil && len(done) == 0 {
		return len(list), failed
	}
	return len(list), err
}

// removeUnnamed deletes objects that no row names, up to the first error, and
// returns all that are dealt with.
func removeUnnamed(ctx context.Context, list []orphaned, remove func(context.Context, string) error) (done []string, failed error) {
	for _, l := range list {
		if l.Named {
			done = append(done, l.Object)
			continue
		}
		if err := remove(ctx, l.Object); err != nil {
			return done, fmt.Errorf("deleting %s: %w", l.Object, err)
		}
		done = append(done, l.Object)
	}
	return done, nil
}
