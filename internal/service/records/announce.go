package records

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Announce says that objects are about to be stored, so that they are deleted
// later unless somebody confirms them. Losing this record in a crash only wastes
// space.
func (db *DB) Announce(ctx context.Context, repository int64, list ...Stored) error {
	objects, sizes := make([]string, len(list)), make([]int64, len(list))
	for i := range list {
		objects[i], sizes[i] = list[i].Object, list[i].Size
	}
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
			INSERT INTO orphaned_objects (object, repository_id, size, delete_after)
			SELECT o, $2, s, now() + interval '`+lease+`' FROM unnest($1::text[], $3::bigint[]) AS n (o, s)
			ON CONFLICT DO NOTHING`, objects, repository, sizes)
		return err
	})
}

// Unannounce says that announced objects will not be confirmed: the next cleanup
// deletes them.
func (db *DB) Unannounce(ctx context.Context, list ...Stored) error {
	objects := make([]string, len(list))
	for i := range list {
		objects[i] = list[i].Object
	}
	_, err := db.ExecContext(ctx, `UPDATE orphaned_objects SET delete_after = now() WHERE object = ANY($1)`, objects)
	return err
}
