package records

import (
	"context"
	"fmt"
	"strings"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/shelf"
)

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
			SELECT repository_id, count(*) AS blobs, sum(size)::bigint AS bytes,
				(sum(size) FILTER (WHERE marked_at IS NOT NULL))::bigint AS marked
			FROM blobs GROUP BY 1) b ON b.repository_id = r.id
		ORDER BY r.name`)
	return out, err
}

// RepositoryID returns the id of a repository.
func (db *DB) RepositoryID(ctx context.Context, name string) (id int64, err error) {
	err = db.GetContext(ctx, &id, `SELECT id FROM repositories WHERE name = $1`, name)
	return id, missing(err, fmt.Sprintf("repository %q", name))
}

// StoredBytes is what a repository stores, in bytes.
type StoredBytes struct {
	Live    int64            `db:"live"`    // blobs that are not marked for deletion
	Waiting int64            `db:"waiting"` // blobs and objects that wait for deletion
	Quota   int64            `db:"quota"`   // of the repository itself; 0: the service's default
	Owned   map[string]int64 // live bytes by owner
	Shelves []shelf.Quota    // quotas of shelves
}

// announcedFor is how old an announced object is before it counts as waiting:
// until then the upload is in progress, and the service counts it itself.
const announcedFor = "10 minutes"

// StoredBytes returns what a repository stores.
func (db *DB) StoredBytes(ctx context.Context, repository int64) (out StoredBytes, err error) {
	if err := db.GetContext(ctx, &out, `
		SELECT coalesce((SELECT quota_bytes FROM repositories WHERE id = $1), 0) AS quota,
			coalesce((SELECT sum(`+weight+`) FROM blobs WHERE repository_id = $1 AND marked_at IS NULL), 0)::bigint AS live,
			coalesce((SELECT sum(`+weight+`) FROM blobs WHERE repository_id = $1 AND marked_at IS NOT NULL), 0)::bigint
			+ coalesce((SELECT sum(size) FROM orphaned_objects WHERE repository_id = $1
				AND (delete_after <= now() OR announced_at < now() - interval '`+announcedFor+`')), 0)::bigint AS waiting`,
		repository); err != nil {
		return out, err
	}
	owned, err := db.ownedBytes(ctx, repository)
	if err != nil {
		return out, err
	}
	out.Owned = map[string]int64{}
	for _, o := range owned {
		out.Owned[o.Shelf] = o.Bytes
	}
	out.Shelves, err = db.ShelfQuotas(ctx, repository)
	return out, err
}

// ShelfQuotas returns the quotas of shelves of a repository.
func (db *DB) ShelfQuotas(ctx context.Context, repository int64) (out []shelf.Quota, err error) {
	return out, db.SelectContext(ctx, &out, `
		SELECT pattern, bytes FROM shelf_quotas WHERE repository_id = $1 ORDER BY pattern`, repository)
}

// SetShelfQuota sets the quota of the shelves that match a pattern; 0 removes
// it.
func (db *DB) SetShelfQuota(ctx context.Context, repository, pattern string, quota int64) error {
	if err := checkShelf(pattern); err != nil {
		return InvalidError{err}
	}
	id, err := db.RepositoryID(ctx, repository)
	if err != nil {
		return err
	}
	if quota == 0 {
		_, err := db.ExecContext(ctx, `DELETE FROM shelf_quotas WHERE repository_id = $1 AND pattern = $2`, id, pattern)
		return err
	}
	_, err = db.ExecContext(ctx, `
		INSERT INTO shelf_quotas (repository_id, pattern, bytes) VALUES ($1, $2, $3)
		ON CONFLICT (repository_id, pattern) DO UPDATE SET bytes = excluded.bytes`, id, pattern, quota)
	return err
}

// RetentionChange words the arguments of [DB.SetRetention] for the list of what was done.
func RetentionChange(quota int64, days int) string {
	var changed []string
	switch {
	case quota == 0:
		changed = append(changed, "the usual quota")
	case quota > 0:
		changed = append(changed, fmt.Sprintf("quota %d bytes", quota))
	}
	switch {
	case days == 0:
		changed = append(changed, "the usual time")
	case days > 0:
		changed = append(changed, amount.Count(days, "day", "days"))
	}
	return strings.Join(changed, "; ")
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
