package records

import (
	"cmp"
	"context"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// shownEntries is how many of the largest entries are listed.
const shownEntries = 50

// Cache returns what the shared cache of a repository holds, and what happened
// to it since a moment.
func (db *DB) Cache(ctx context.Context, repository int64, k Retention, since time.Time) (protocol.Cache, error) {
	out := protocol.Cache{ShelfQuotas: []protocol.ShelfQuota{}, Largest: []protocol.CacheEntry{}}
	stored, err := db.StoredBytes(ctx, repository)
	if err != nil {
		return out, err
	}
	out.Bytes, out.Waiting, out.OwnQuota = stored.Live, stored.Waiting, stored.Quota
	for _, q := range stored.Shelves {
		out.ShelfQuotas = append(out.ShelfQuotas, protocol.ShelfQuota{Pattern: q.Pattern, Bytes: q.Bytes})
	}
	if err := db.GetContext(ctx, &out.OwnDays, `SELECT coalesce(keep_days, 0) FROM repositories WHERE id = $1`, repository); err != nil {
		return out, err
	}
	out.Quota, out.Days = cmp.Or(out.OwnQuota, k.Quota), cmp.Or(out.OwnDays, k.Days)
	if out.Shelves, err = db.shares(ctx, repository, "shelf"); err != nil {
		return out, err
	}
	if out.Projects, err = db.shares(ctx, repository, "split_part(task, '@', 2)"); err != nil {
		return out, err
	}
	for _, s := range out.Shelves {
		out.Entries += s.Entries
	}
	if err := db.cacheHistory(ctx, repository, since, &out); err != nil {
		return out, err
	}
	out.Largest, err = db.cacheEntries(ctx, `WHERE repository_id = $1 ORDER BY bytes DESC, key LIMIT $2`, repository, shownEntries)
	return out, err
}

func (db *DB) shares(ctx context.Context, repository int64, column string) ([]protocol.CacheShare, error) {
	out := []protocol.CacheShare{}
	return out, db.SelectContext(ctx, &out, `
		SELECT `+column+` AS name, count(*) AS entries, coalesce(sum(bytes), 0)::bigint AS bytes,
			count(*) FILTER (WHERE last_used > current_date - 30) AS used
		FROM entries WHERE repository_id = $1 GROUP BY 1 ORDER BY 3 DESC, 1 LIMIT 500`, repository)
}

func (db *DB) cacheHistory(ctx context.Context, repository int64, since time.Time, out *protocol.Cache) error {
	out.Growth, out.Hits, out.Evictions = []protocol.CachePoint{}, []protocol.HitPoint{}, []protocol.EvictionRow{}
	if err := db.SelectContext(ctx, &out.Growth, `
		SELECT day::text AS day, shelf, sum(entries)::bigint AS entries, sum(bytes)::bigint AS bytes FROM cache_days
		WHERE repository_id = $1 AND day >= $2::date GROUP BY 1, 2 ORDER BY 1, 2`, repository, since); err != nil {
		return err
	}
	if err := db.SelectContext(ctx, &out.Hits, `
		SELECT week, coalesce(sum(n) FILTER (WHERE outcome = 'fetched'), 0) AS fetched,
			coalesce(sum(n) FILTER (WHERE outcome = 'restored'), 0) AS restored,
			coalesce(sum(n) FILTER (WHERE outcome = 'cached'), 0) AS cached,
			coalesce(sum(n) FILTER (WHERE outcome IN ('ran', 'failed')), 0) AS executed
		FROM task_weeks WHERE repository_id = $1 AND week >= $2::date - 6 GROUP BY 1 ORDER BY 1`, repository, since); err != nil {
		return err
	}
	return db.SelectContext(ctx, &out.Evictions, `
		SELECT (at AT TIME ZONE 'UTC')::date::text AS day, shelf_family(shelf) AS shelf, why, sum(entries)::bigint AS entries,
			sum(bytes)::bigint AS bytes
		FROM evictions WHERE repository_id = $1 AND at >= $2 GROUP BY 1, 2, 3 ORDER BY 1 DESC, 2 LIMIT 500`, repository, since)
}

func (db *DB) cacheEntries(ctx context.Context, condition string, args ...any) ([]protocol.CacheEntry, error) {
	var rows []struct {
		entryRow
		LastUsed string `db:"last_used"`
	}
	err := db.SelectContext(ctx, &rows, `SELECT `+entryColumns+`, last_used::text AS last_used FROM entries `+condition, args...)
	out := []protocol.CacheEntry{}
	for _, r := range rows {
		out = append(out, protocol.CacheEntry{Entry: r.entry(), LastUsed: r.LastUsed})
	}
	return out, err
}

// EntryOf returns the entry with a key, on one shelf or on any.
func (db *DB) EntryOf(ctx context.Context, t Token, k digest.Digest, shelf string) (protocol.CacheEntry, error) {
	list, err := db.cacheEntries(ctx, `
		WHERE repository_id = $1 AND key = $2 AND ($3 = '' OR shelf = $3) ORDER BY shelf = 'trusted' DESC, shelf LIMIT 1`,
		t.RepositoryID, k[:], shelf)
	if err == nil && len(list) == 0 {
		err = missingf("entry " + k.Short())
	}
	if err != nil {
		return protocol.CacheEntry{}, err
	}
	return list[0], nil
}
