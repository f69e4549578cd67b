package records

import (
	"context"

	"grayloft.example/grayloft/internal/core/digest"
)

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
