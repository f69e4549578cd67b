package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
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

// Cleanup makes one pass over every repository, unless another replica is doing
// it: it removes what has expired or exceeds a quota, marks blobs for deletion
// that nothing references and nobody leases, unmarks those that are referenced
// again, and deletes, from the records and by remove from the store, those that
// have been marked long enough. The next pass completes one that was
// interrupted. An error in one repository does not affect the others; all errors
// are returned together.
func (db *DB) Cleanup(
	ctx context.Context,
	k Retention,
	remove func(ctx context.Context, object string) error,
) (Cleanup, bool, error) {
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
	var all []ward
	if err := db.SelectContext(ctx, &all, `
		SELECT id, name, coalesce(quota_bytes, $1) AS quota, coalesce(keep_days, $2) AS days FROM repositories ORDER BY id`,
		k.Quota, k.Days); err != nil {
		return s, true, err
	}
	failed := []error{db.forgetOld(ctx)}
	if k.RunDays > 0 {
		failed = append(failed, db.dropEmptyMonths(ctx, time.Now().AddDate(0, 0, -k.RunDays)))
	}
	for _, r := range all {
		if err := db.cleanRepository(ctx, r, k, &s, remove); err != nil {
			failed = append(failed, fmt.Errorf("repository %q: %w", r.Name, err))
		}
	}
	return s, true, errors.Join(failed...)
}

// ward is a repository with the limits that hold for it.
type ward struct {
	ID    int64  `db:"id"`
	Name  string `db:"name"`
	Quota int64  `db:"quota"` // 0: unlimited
	Days  int    `db:"days"`  // 0: for ever
}

func (db *DB) cleanRepository(
	ctx context.Context,
	r ward,
	k Retention,
	s *Cleanup,
	remove func(context.Context, string) error,
) error {
	for _, step := range []func() error{
		func() error { return db.expire(ctx, r, k, s) },
		func() error { return db.makeRoom(ctx, r, s) },
		func() error { return db.markForDeletion(ctx, r.ID, s) },
		func() error { return db.unmark(ctx, r.ID, s) },
		func() error { return db.deleteMarked(ctx, r, k, s) },
		func() error { return db.deleteOrphaned(ctx, r.ID, remove) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// forgetOld removes what belongs to no single repository's retention.
func (db *DB) forgetOld(ctx context.Context) error {
	for _, q := range []string{
		`DELETE FROM parts WHERE made_at < now() - interval '7 days'`,
		`DELETE FROM divergences WHERE at < now() - interval '180 days'`,
		`DELETE FROM withdrawals WHERE at < now() - interval '180 days'`,
		`DELETE FROM sessions WHERE expires_at < now()`,
		`DELETE FROM claims WHERE lease_until < now() - interval '1 hour'`,
		`DELETE FROM growing_logs WHERE stored_at < now() - interval '2 days'`,
		`DELETE FROM joins WHERE made_at < now() - interval '7 days'`,
		`DELETE FROM runners r WHERE seen_at < now() - interval '7 days'`,
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// noteEvictions is the part of a query that records the entries in gone as
// evicted. Its arguments are the repository and why they were.
const noteEvictions = `noted AS (
	INSERT INTO evictions (repository_id, shelf, project, why, entries, bytes)
	SELECT $1, shelf, split_part(task, '@', 2), '%s', count(*), sum(bytes) FROM gone GROUP BY 2, 3)`

// expire removes entries that were not used for long, and old runs with what
// was computed from them.
func (db *DB) expire(ctx context.Context, r ward, k Retention, s *Cleanup) error {
	if r.Days > 0 {
		var n int64
		if err := db.GetContext(ctx, &n, `
			WITH gone AS (DELETE FROM entries WHERE repository_id = $1 AND last_used < current_date - $2::integer RETURNING shelf,
				task, bytes),
			`+fmt.Sprintf(noteEvictions, "unused")+`
			SELECT count(*) FROM gone`, r.ID, r.Days); err != nil {
			return err
		}
		s.Entries += n
	}
	if k.RunDays > 0 {
		if err := db.expireRuns(ctx, r.ID, k.RunDays, s); err != nil {
			return err
		}
	}
	return forgetReferences(ctx, db.DB, r.ID)
}

func (db *DB) expireRuns(ctx context.Context, repository int64, days int, s *Cleanup) error {
	var n int64
	if err := db.GetContext(ctx, &n, `
		WITH gone AS (DELETE FROM runs WHERE repository_id = $1 AND began < now() - make_interval(days => $2) RETURNING id, began),
		records AS (DELETE FROM run_tasks t USING gone g WHERE t.repository_id = $1 AND t.began = g.began AND t.run_id = g.id),
		cases AS (DELETE FROM test_cases t USING gone g WHERE t.repository_id = $1 AND t.began = g.began AND t.run_id = g.id)
		SELECT count(*) FROM gone`, repository, days); err != nil {
		return err
	}
	s.Runs += n
	for _, q := range []string{
		`DELETE FROM run_hours WHERE repository_id = $1 AND hour < now() - make_interval(days => $2)`,
		`DELETE FROM task_weeks WHERE repository_id = $1 AND week < current_date - $2::integer - 7`,
		`DELETE FROM task_repeats WHERE repository_id = $1 AND week < current_date - $2::integer - 7`,
		`DELETE FROM task_causes WHERE repository_id = $1 AND week < current_date - $2::integer - 7`,
		`DELETE FROM unstable_keys WHERE repository_id = $1 AND last_at < now() - make_interval(days => $2)`,
		`DELETE FROM near_misses WHERE repository_id = $1 AND began < now() - make_interval(days => $2)`,
		`DELETE FROM cache_days WHERE repository_id = $1 AND day < current_date - $2::integer`,
		`DELETE FROM evictions WHERE repository_id = $1 AND at < now() - make_interval(days => $2)`,
		`DELETE FROM requests WHERE repository_id = $1 AND ended_at < now() - make_interval(days => $2)`,
	} {
		if _, err := db.ExecContext(ctx, q, repository, days); err != nil {
			return err
		}
	}
	_, err := db.ExecContext(ctx, `
		DELETE FROM graphs g WHERE repository_id = $1 AND stored_at < now() - interval '1 day'
			AND NOT EXISTS (SELECT FROM runs r WHERE r.repository_id = g.repository_id AND r.graph = g.digest)`, repository)
	return err
}

// forgetReferences removes what listings and ingredients name that no entry has
// any more.
func forgetReferences(ctx context.Context, db sqlx.ExecerContext, repository int64) error {
	for _, q := range []string{
		`DELETE FROM listing_blobs l WHERE repository_id = $1
			AND NOT EXISTS (SELECT FROM entries e WHERE e.repository_id = l.repository_id AND e.listing = l.listing)`,
		`DELETE FROM ingredient_blobs l WHERE repository_id = $1
			AND NOT EXISTS (SELECT FROM entries e WHERE e.repository_id = l.repository_id AND e.ingredients = l.ingredients)`,
	} {
		if _, err := db.ExecContext(ctx, q, repository); err != nil {
			return err
		}
	}
	return nil
}
