package records

import (
	"context"
	"encoding/json"

	"grayloft.example/grayloft/internal/core/digest"
)

// Parts returns the durations of tasks in seconds, by address; the first who
// asks under a digest determines the answer for all.
func (db *DB) Parts(ctx context.Context, t Token, under digest.Digest, tasks []string) (map[string]float64, error) {
	var rows []struct {
		Task    string  `db:"task"`
		Seconds float64 `db:"seconds"`
	}
	if err := db.SelectContext(ctx, &rows, `
		SELECT DISTINCT ON (task) task, seconds FROM entries
		WHERE repository_id = $1 AND task = ANY($2) AND shelf LIKE ANY($3)
		ORDER BY task, made_at DESC`, t.RepositoryID, tasks, matchesPattern(t.ReadsFrom)); err != nil {
		return nil, err
	}
	known := map[string]float64{}
	for _, r := range rows {
		known[r.Task] = r.Seconds
	}
	text, err := json.Marshal(known)
	if err != nil {
		return nil, err
	}
	if _, err := db.ExecContext(ctx, `
		INSERT INTO parts (repository_id, digest, seconds) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
		t.RepositoryID, under[:], string(text)); err != nil {
		return nil, err
	}
	var agreed []byte
	if err := db.GetContext(ctx, &agreed, `SELECT seconds FROM parts WHERE repository_id = $1 AND digest = $2`, t.RepositoryID,
		under[:]); err != nil {
		return nil, err
	}
	out := map[string]float64{}
	return out, json.Unmarshal(agreed, &out)
}
