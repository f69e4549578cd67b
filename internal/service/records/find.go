package records

import (
	"context"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

// EntryFilter selects entries of one task.
type EntryFilter struct {
	Task   string
	Of     string    // the start of a key, a run, a place or a maker; empty: any
	Before time.Time // made before; zero: now
	Limit  int
}

// Entries returns the entries of a task on the shelves that the token reads
// from, newest first.
func (db *DB) Entries(ctx context.Context, t Token, f EntryFilter) ([]protocol.Entry, error) {
	var rows []entryRow
	before := f.Before
	if before.IsZero() {
		before = time.Now().AddDate(100, 0, 0)
	}
	escaped := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(strings.ToLower(f.Of))
	err := db.SelectContext(ctx, &rows, `
		SELECT `+entryColumns+` FROM entries
		WHERE repository_id = $1 AND task = $2 AND shelf LIKE ANY($3) AND made_at < $4
			AND ($5 = '' OR made_run = $5 OR made_place = $5 OR made_name = $5 OR encode(key, 'hex') LIKE $6)
		ORDER BY made_at DESC, key LIMIT $7`,
		t.RepositoryID, f.Task, matchesPattern(t.ReadsFrom), before, f.Of, escaped+"%", f.Limit)
	out := make([]protocol.Entry, len(rows))
	for i, r := range rows {
		out[i] = r.entry()
	}
	return out, err
}

const lastGoodCommits = 50

// failedAmong is how many runs of a branch are looked at for what failed.
const failedAmong = 100

// FailedOn returns the tasks whose last result on a branch failed, in the newest
// runs among those that a token may know: on shelves that it reads, or its own.
func (db *DB) FailedOn(ctx context.Context, t Token, branch string) ([]string, error) {
	var runs []struct {
		ID    string    `db:"id"`
		Began time.Time `db:"began"`
		Shelf string    `db:"shelf"`
		Token int64     `db:"token_id"`
	}
	if err := db.SelectContext(ctx, &runs, `
		SELECT id, began, shelf, token_id FROM runs WHERE repository_id = $1 AND branch = $2 ORDER BY began DESC, id DESC LIMIT $3`,
		t.RepositoryID, branch, failedAmong); err != nil {
		return nil, err
	}
	out, ids, began := []string{}, []string{}, []time.Time{}
	for _, r := range runs {
		if r.Token == t.ID || t.MayRead(r.Shelf) {
			ids, began = append(ids, r.ID), append(began, r.Began)
		}
	}
	return out, db.SelectContext(ctx, &out, `
		SELECT n.name FROM (
			SELECT DISTINCT ON (t.task_id) t.task_id, t.outcome FROM unnest($2::text[], $3::timestamptz[]) AS r (id, began)
			JOIN run_tasks t ON t.repository_id = $1 AND t.began = r.began AND t.run_id = r.id
			WHERE NOT t.running AND t.outcome NOT IN ('blocked', 'stopped', 'not-started')
			ORDER BY t.task_id, t.began DESC, t.run_id DESC) l
		JOIN tasks n ON n.id = l.task_id WHERE l.outcome = 'failed' ORDER BY 1`, t.RepositoryID, ids, began)
}

// LastGood returns commits of a branch (of any branch if it is empty) whose run
// on the trusted shelf passed, newest first.
func (db *DB) LastGood(ctx context.Context, repository int64, branch string) ([]protocol.GoodCommit, error) {
	out := []protocol.GoodCommit{}
	var rows []struct {
		ID      string    `db:"id"`
		Commit  string    `db:"commit"`
		Branch  string    `db:"branch"`
		Started time.Time `db:"started_at"`
	}
	err := db.SelectContext(ctx, &rows, `
		SELECT id, commit, branch, started_at FROM runs
		WHERE repository_id = $1 AND shelf = 'trusted' AND ok AND commit <> '' AND ($2 = '' OR branch = $2)
		ORDER BY started_at DESC LIMIT $3`, repository, branch, lastGoodCommits)
	for _, r := range rows {
		out = append(out, protocol.GoodCommit{Commit: r.Commit, Branch: r.Branch, Run: r.ID, At: r.Started.UTC()})
	}
	return out, err
}
