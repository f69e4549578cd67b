package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
)

// Retention says how long and how much a repository stores, unless its own row
// says otherwise.
type Retention struct {
	Days          int           // entries that were not used for this many days are removed; 0: never
	Quota         int64         // bytes of blobs; 0: unlimited
	RunDays       int           // records of runs that started this many days ago are removed; 0: never
	DeletionDelay time.Duration // how long a blob stays marked before it is deleted
}

// Cleanup is what one cleanup did.
type Cleanup struct {
	Entries  int64 // unused for too long, or beyond the quota
	Runs     int64
	Marked   int64
	Unmarked int64 // marked before, and referenced again since
	Deleted  int64 // blobs
	Bytes    int64 // of the deleted blobs
}

// cleanupLock is the advisory lock by which replicas take turns at cleaning up.
const cleanupLock = 0x10f7_0001

// Cleanup makes one pass over everything, unless another replica is doing it:
// it removes what has expired or exceeds its repository's quota, marks blobs
// for deletion that nothing references and nobody leases, unmarks those that
// are referenced again, and deletes, from the records and by remove from the
// store, those that have been marked long enough. The next pass completes one
// that was interrupted.
func (db *DB) Cleanup(ctx context.Context, k Retention, remove func(ctx context.Context, object string) error) (Cleanup, bool, error) {
	var s Cleanup
	conn, err := db.Connx(ctx)
	if err != nil {
		return s, false, err
	}
	defer conn.Close()
	var mine bool
	if err := conn.GetContext(ctx, &mine, `SELECT pg_try_advisory_lock($1)`, cleanupLock); err != nil || !mine {
		return s, false, err
	}
	defer func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, cleanupLock)
	}()
	steps := []func() error{
		func() error { return db.evict(ctx, k, &s) },
		func() error { return db.markForDeletion(ctx, &s) },
		func() error { return db.unmark(ctx, &s) },
		func() error { return db.deleteMarked(ctx, k, &s) },
		func() error { return db.deleteOrphaned(ctx, remove) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return s, true, err
		}
	}
	return s, true, nil
}

// evict removes expired entries and runs, and the least recently used entries
// of repositories that exceed their quota.
func (db *DB) evict(ctx context.Context, k Retention, s *Cleanup) error {
	res, err := db.ExecContext(ctx, `
		DELETE FROM entries e USING repositories r
		WHERE r.id = e.repository_id AND coalesce(r.keep_days, $1) > 0 AND e.last_used < current_date - coalesce(r.keep_days, $1)`, k.Days)
	if err != nil {
		return err
	}
	s.Entries, _ = res.RowsAffected()
	if k.RunDays > 0 {
		res, err := db.ExecContext(ctx, `DELETE FROM runs WHERE started_at < now() - make_interval(days => $1)`, k.RunDays)
		if err != nil {
			return err
		}
		s.Runs, _ = res.RowsAffected()
	}
	for _, q := range []string{
		`DELETE FROM parts WHERE made_at < now() - interval '7 days'`,
		`DELETE FROM divergences WHERE at < now() - interval '180 days'`,
		`DELETE FROM listing_blobs l
			WHERE NOT EXISTS (SELECT FROM entries e WHERE e.repository_id = l.repository_id AND e.listing = l.listing)`,
		`DELETE FROM ingredient_blobs l
			WHERE NOT EXISTS (SELECT FROM entries e WHERE e.repository_id = l.repository_id AND e.ingredients = l.ingredients)`,
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	var over []struct {
		ID    int64 `db:"id"`
		Bytes int64 `db:"bytes"`
		Quota int64 `db:"quota"`
	}
	if err := db.SelectContext(ctx, &over, `
		SELECT r.id, b.bytes, coalesce(r.quota_bytes, $1) AS quota
		FROM repositories r
		JOIN (SELECT repository_id, sum(size) AS bytes FROM blobs WHERE marked_at IS NULL GROUP BY 1) b ON b.repository_id = r.id
		WHERE coalesce(r.quota_bytes, $1) > 0 AND b.bytes > coalesce(r.quota_bytes, $1)`, k.Quota); err != nil {
		return err
	}
	for _, r := range over {
		n, err := db.evictLeastUsed(ctx, r.ID, r.Bytes-r.Quota*9/10)
		if err != nil {
			return err
		}
		s.Entries += n
	}
	return nil
}

// evictLeastUsed removes the least recently used entries of a repository until
// their outputs come to that many bytes. Outputs that several entries share
// count for each of them, so it may take another pass.
func (db *DB) evictLeastUsed(ctx context.Context, repository, bytes int64) (int64, error) {
	res, err := db.ExecContext(ctx, `
		DELETE FROM entries e USING (
			SELECT shelf, key, sum(bytes + 1) OVER (ORDER BY last_used, filed_at, shelf, key) - (bytes + 1) AS before
			FROM entries WHERE repository_id = $1) o
		WHERE e.repository_id = $1 AND e.shelf = o.shelf AND e.key = o.key AND o.before < $2`, repository, bytes)
	if err != nil {
		return 0, err
	}
	n, err := res.RowsAffected()
	if err == nil && n > 0 {
		// Blobs that only these entries referenced lose the rest of their
		// lease: the room is needed now.
		_, err = db.ExecContext(ctx, `
			DELETE FROM listing_blobs l WHERE repository_id = $1
			AND NOT EXISTS (SELECT FROM entries e WHERE e.repository_id = l.repository_id AND e.listing = l.listing)`, repository)
	}
	return n, err
}

// referenced is the condition that something references blob b.
const referenced = `(
	EXISTS (SELECT FROM listing_blobs l WHERE l.repository_id = b.repository_id AND l.blob = b.digest)
	OR EXISTS (SELECT FROM ingredient_blobs i WHERE i.repository_id = b.repository_id AND i.blob = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.listing = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.ingredients = b.digest)
	OR EXISTS (SELECT FROM entries e WHERE e.repository_id = b.repository_id AND e.log = b.digest)
	OR EXISTS (SELECT FROM run_tasks t WHERE t.repository_id = b.repository_id AND t.log = b.digest))`

func (db *DB) markForDeletion(ctx context.Context, s *Cleanup) error {
	// Rows that somebody has locked are skipped: they are in use.
	res, err := db.ExecContext(ctx, `
		UPDATE blobs SET marked_at = now() FROM (
			SELECT repository_id, digest FROM blobs b WHERE marked_at IS NULL AND leased_until < now() AND NOT `+referenced+`
			FOR UPDATE SKIP LOCKED) u
		WHERE blobs.repository_id = u.repository_id AND blobs.digest = u.digest`)
	if err == nil {
		s.Marked, err = res.RowsAffected()
	}
	return err
}

// unmark clears the mark of blobs that something references: an entry that was
// filed at the same moment.
func (db *DB) unmark(ctx context.Context, s *Cleanup) error {
	res, err := db.ExecContext(ctx, `
		UPDATE blobs SET marked_at = NULL FROM (
			SELECT repository_id, digest FROM blobs b WHERE marked_at IS NOT NULL AND `+referenced+` FOR UPDATE SKIP LOCKED) u
		WHERE blobs.repository_id = u.repository_id AND blobs.digest = u.digest`)
	if err == nil {
		s.Unmarked, err = res.RowsAffected()
	}
	return err
}

// cleanupBatch is how many blobs one transaction deletes.
const cleanupBatch = 500

// deleteMarked deletes the rows of blobs that have been marked long enough,
// after checking again under their lock, and records their objects as orphaned.
func (db *DB) deleteMarked(ctx context.Context, k Retention, s *Cleanup) error {
	for {
		var gone []struct {
			Object string `db:"object"`
			Size   int64  `db:"size"`
		}
		err := db.inTx(ctx, func(tx *sqlx.Tx) error {
			var due []struct {
				Repository int64  `db:"repository_id"`
				Digest     []byte `db:"digest"`
			}
			if err := tx.SelectContext(ctx, &due, `
				SELECT repository_id, digest FROM blobs WHERE marked_at < now() - make_interval(secs => $1)
				ORDER BY repository_id, digest LIMIT $2 FOR UPDATE SKIP LOCKED`, k.DeletionDelay.Seconds(), cleanupBatch); err != nil {
				return err
			}
			repos, digests := make([]int64, len(due)), make([][]byte, len(due))
			for i, d := range due {
				repos[i], digests[i] = d.Repository, d.Digest
			}
			// A separate statement: it sees what was filed before the lock.
			return tx.SelectContext(ctx, &gone, `
				WITH gone AS (
					DELETE FROM blobs b USING unnest($1::bigint[], $2::bytea[]) AS due (repo, d)
					WHERE b.repository_id = due.repo AND b.digest = due.d AND b.marked_at IS NOT NULL AND NOT `+referenced+`
					RETURNING b.repository_id, b.object, b.size),
				doom AS (INSERT INTO orphaned_objects (object, repository_id, delete_after)
					SELECT object, repository_id, now() FROM gone ON CONFLICT DO NOTHING)
				SELECT object, size FROM gone`, repos, digests)
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

// deleteOrphaned deletes stored objects that no row names. Their rows stay
// locked meanwhile, so that an upload that completes at that moment finds out
// that it is too late.
func (db *DB) deleteOrphaned(ctx context.Context, remove func(ctx context.Context, object string) error) error {
	for {
		n := 0
		err := db.inTx(ctx, func(tx *sqlx.Tx) (err error) {
			n, err = deleteSomeOrphaned(ctx, tx, remove)
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

func deleteSomeOrphaned(ctx context.Context, tx *sqlx.Tx, remove func(ctx context.Context, object string) error) (n int, err error) {
	var list []orphaned
	if err := tx.SelectContext(ctx, &list, `
		SELECT object, EXISTS (SELECT FROM blobs b WHERE b.repository_id = d.repository_id AND b.object = d.object) AS named
		FROM orphaned_objects d WHERE delete_after <= now() LIMIT $1 FOR UPDATE SKIP LOCKED`, cleanupBatch); err != nil {
		return 0, err
	}
	done, failed := removeUnnamed(ctx, list, remove)
	_, err = tx.ExecContext(ctx, `DELETE FROM orphaned_objects WHERE object = ANY($1)`, done)
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

// Announce says that an object is about to be stored, so that it is deleted
// later unless somebody confirms it. Losing this record in a crash only wastes
// space.
func (db *DB) Announce(ctx context.Context, repository int64, objects ...string) error {
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
			INSERT INTO orphaned_objects (object, repository_id, delete_after) SELECT unnest($1::text[]), $2, now() + interval '`+lease+`'
			ON CONFLICT DO NOTHING`, objects, repository)
		return err
	})
}

// Used is an entry that was looked up.
type Used struct {
	Repository int64
	Shelf      string
	Key        digest.Digest
}

// NoteUse records that entries were used today.
func (db *DB) NoteUse(ctx context.Context, list []Used) error {
	repos, shelves, keys := make([]int64, len(list)), make([]string, len(list)), make([][]byte, len(list))
	for i := range list {
		repos[i], shelves[i], keys[i] = list[i].Repository, list[i].Shelf, list[i].Key[:]
	}
	_, err := db.ExecContext(ctx, `
		UPDATE entries e SET last_used = current_date FROM unnest($1::bigint[], $2::text[], $3::bytea[]) AS u (repo, shelf, key)
		WHERE e.repository_id = u.repo AND e.shelf = u.shelf AND e.key = u.key AND e.last_used < current_date`, repos, shelves, keys)
	return err
}

// Usage is what a repository stores.
type Usage struct {
	ID          int64  `db:"id"`
	Name        string `db:"name"`
	Blobs       int64  `db:"blobs"`
	Bytes       int64  `db:"bytes"`
	MarkedBytes int64  `db:"marked"` // bytes of blobs that are marked for deletion
	Entries     int64  `db:"entries"`
	Runs        int64  `db:"runs"`
	Quota       int64  `db:"quota"` // 0: the service's default
	Days        int    `db:"days"`  // 0: the service's default
}

// Usage returns what every repository stores, by name.
func (db *DB) Usage(ctx context.Context) ([]Usage, error) {
	out := []Usage{}
	err := db.SelectContext(ctx, &out, `
		SELECT r.id, r.name, coalesce(r.quota_bytes, 0) AS quota, coalesce(r.keep_days, 0) AS days,
			coalesce(b.blobs, 0) AS blobs, coalesce(b.bytes, 0) AS bytes, coalesce(b.marked, 0) AS marked,
			(SELECT count(*) FROM entries e WHERE e.repository_id = r.id) AS entries,
			(SELECT count(*) FROM runs u WHERE u.repository_id = r.id) AS runs
		FROM repositories r LEFT JOIN (
			SELECT repository_id, count(*) AS blobs, sum(size) AS bytes, sum(size) FILTER (WHERE marked_at IS NOT NULL) AS marked
			FROM blobs GROUP BY 1) b ON b.repository_id = r.id
		ORDER BY r.name`)
	return out, err
}

// StoredBytes returns the bytes of a repository's blobs that are not marked for
// deletion, and its own quota, 0 if it has none.
func (db *DB) StoredBytes(ctx context.Context, repository int64) (bytes, quota int64, err error) {
	var row struct {
		Bytes int64 `db:"bytes"`
		Quota int64 `db:"quota"`
	}
	err = db.GetContext(ctx, &row, `
		SELECT coalesce((SELECT sum(size) FROM blobs WHERE repository_id = $1 AND marked_at IS NULL), 0) AS bytes,
			coalesce((SELECT quota_bytes FROM repositories WHERE id = $1), 0) AS quota`, repository)
	return row.Bytes, row.Quota, err
}

// SetRetention sets the quota and retention of a repository; 0 means the
// service's default, and a negative number changes nothing.
func (db *DB) SetRetention(ctx context.Context, repository string, quota int64, days int) error {
	res, err := db.ExecContext(ctx, `
		UPDATE repositories SET
			quota_bytes = CASE WHEN $2::bigint < 0 THEN quota_bytes ELSE nullif($2::bigint, 0) END,
			keep_days = CASE WHEN $3::integer < 0 THEN keep_days ELSE nullif($3::integer, 0) END
		WHERE name = $1`, repository, quota, days)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return fmt.Errorf("%w: repository %q", ErrNotExist, repository)
	}
	return nil
}
