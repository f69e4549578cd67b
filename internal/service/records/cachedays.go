package records

import "context"

// NoteCache records what the shared cache holds today, by project and shelf (those
// of all people, and of all branches, together), and tells every replica that a cleanup has ended.
func (db *DB) NoteCache(ctx context.Context) error {
	if _, err := db.ExecContext(ctx, `
		WITH gone AS (DELETE FROM cache_days WHERE day = (now() AT TIME ZONE 'UTC')::date)
		INSERT INTO cache_days
		SELECT repository_id, (now() AT TIME ZONE 'UTC')::date, shelf_family(shelf), split_part(task, '@', 2), count(*), sum(bytes)
		FROM entries GROUP BY 1, 3, 4
		ON CONFLICT (repository_id, day, shelf, project) DO UPDATE SET entries = excluded.entries, bytes = excluded.bytes`); err != nil {
		return err
	}
	_, err := db.ExecContext(ctx, `SELECT pg_notify($1, '')`, cleanChannel)
	return err
}
