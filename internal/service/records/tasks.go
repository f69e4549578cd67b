package records

import (
	"context"
	"strings"
	"time"
)

// TaskID returns the id of a task.
func (db *DB) TaskID(ctx context.Context, repository int64, task string) (id int64, err error) {
	err = db.GetContext(ctx, &id, `SELECT id FROM tasks WHERE repository_id = $1 AND name = $2`, repository, task)
	return id, missing(err, "task "+task)
}

// HasGenerated tells whether a repository has generated records.
func (db *DB) HasGenerated(ctx context.Context, repository int64) (generated bool, err error) {
	return generated, db.GetContext(ctx, &generated, `
		SELECT coalesce((SELECT generated FROM runs WHERE repository_id = $1 ORDER BY began DESC LIMIT 1), false)`, repository)
}

// Like returns a pattern of LIKE for a text anywhere, in lower case; empty for
// an empty text.
func Like(text string) string {
	if text == "" {
		return ""
	}
	return "%" + likePattern.Replace(strings.ToLower(text)) + "%"
}

// FailedByProject counts the executions that failed since a moment, by project.
func (db *DB) FailedByProject(ctx context.Context, repository int64, since time.Time) (map[string]int, error) {
	var rows []struct {
		Project string `db:"project"`
		N       int    `db:"n"`
	}
	err := db.SelectContext(ctx, &rows, `
		SELECT n.project, sum(w.n) AS n FROM task_weeks w JOIN tasks n ON n.id = w.task_id
		WHERE w.repository_id = $1 AND w.week >= $2::date - 6 AND w.outcome = 'failed' GROUP BY 1`, repository, since)
	out := map[string]int{}
	for _, r := range rows {
		out[r.Project] = r.N
	}
	return out, err
}
