package records

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/protocol"
)

// AddLines stores lines that running tasks printed, and tells how many there are
// of each task. Lines that are known are skipped; those after a gap are not
// stored.
func (db *DB) AddLines(ctx context.Context, t Token, run string, chunks []protocol.LogChunk) (have map[string]int, err error) {
	have = map[string]int{}
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		var head struct {
			Token    int64 `db:"token_id"`
			Finished bool  `db:"finished"`
			Bytes    int64 `db:"bytes"`
		}
		if err := tx.GetContext(ctx, &head, `
			SELECT token_id, finished_at IS NOT NULL AS finished, (SELECT coalesce(sum(bytes), 0) FROM growing_logs
				WHERE repository_id = $1 AND run_id = $2)::bigint AS bytes
			FROM runs WHERE repository_id = $1 AND id = $2 FOR NO KEY UPDATE`, t.RepositoryID, run); err != nil {
			return missing(err, "run "+run)
		}
		if head.Token != t.ID {
			return ErrOthers
		}
		for _, c := range chunks {
			n := -1
			if !head.Finished && head.Bytes < protocol.MaxGrowing {
				var err error
				if n, err = addChunk(ctx, tx, t.RepositoryID, run, c); err != nil {
					return err
				}
			}
			have[c.Task] = n
		}
		_, err := tx.ExecContext(ctx, `UPDATE runs SET touched_at = now() WHERE repository_id = $1 AND id = $2`, t.RepositoryID, run)
		if err != nil {
			return err
		}
		return notifyLog(ctx, tx, t.RepositoryID, run)
	})
	return have, err
}

// notifyLog tells every replica that logs of a run grew.
func notifyLog(ctx context.Context, tx *sqlx.Tx, repository int64, run string) error {
	_, err := tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", logChannel, fmt.Sprintf("%d %s", repository, run))
	return err
}

// addChunk stores lines of one task, and returns how many it has then; 0 if it
// is not known to run.
func addChunk(ctx context.Context, tx *sqlx.Tx, repository int64, run string, c protocol.LogChunk) (have int, err error) {
	var found []struct {
		Task int64 `db:"id"`
		Have int   `db:"have"`
	}
	if err := tx.SelectContext(ctx, &found, `
		SELECT n.id, (SELECT coalesce(max(first + lines), 0) FROM growing_logs g
			WHERE g.repository_id = $1 AND g.run_id = $2 AND g.task_id = n.id) AS have
		FROM runs r JOIN tasks n ON n.repository_id = $1 AND n.name = $3
		JOIN run_tasks t ON t.repository_id = $1 AND t.began = r.began AND t.run_id = $2 AND t.task_id = n.id
		WHERE r.repository_id = $1 AND r.id = $2 AND t.running`, repository, run, c.Task); err != nil {
		return 0, err
	}
	if len(found) == 0 {
		return 0, nil // its start was not recorded yet
	}
	at := found[0]
	if c.First > at.Have || c.First+len(c.Lines) <= at.Have {
		return at.Have, nil
	}
	lines := c.Lines[at.Have-c.First:]
	text, err := json.Marshal(lines)
	if err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `
		INSERT INTO growing_logs (repository_id, run_id, task_id, first, lines, bytes, content) VALUES ($1, $2, $3, $4, $5, $6, $7)`,
		repository, run, at.Task, at.Have, len(lines), len(text), packer.EncodeAll(text, nil))
	return at.Have + len(lines), err
}

// Lines selects lines of a log: at most so many from First on; if that is
// negative, the last ones.
type Lines struct{ First, Most int }

// GrowingLog returns lines of the log of a running task, and how many there are.
func (db *DB) GrowingLog(ctx context.Context, repository int64, run, task string, l Lines) (protocol.Log, error) {
	out := protocol.Log{Task: task, Lines: []protocol.LogLine{}}
	const of = `repository_id = $1 AND run_id = $2 AND task_id = (SELECT id FROM tasks WHERE repository_id = $1 AND name = $3)`
	if err := db.GetContext(ctx, &out.Total, `
		SELECT coalesce(max(first + lines), 0) FROM growing_logs WHERE `+of, repository, run, task); err != nil {
		return out, err
	}
	if l.First < 0 {
		l.First = max(0, out.Total-l.Most)
	}
	out.First = min(l.First, out.Total)
	var parts []struct {
		First   int    `db:"first"`
		Content []byte `db:"content"`
	}
	if err := db.SelectContext(ctx, &parts, `
		SELECT first, content FROM growing_logs WHERE `+of+` AND first + lines > $4 AND first < $5 ORDER BY first`,
		repository, run, task, out.First, out.First+l.Most); err != nil {
		return out, err
	}
	for _, p := range parts {
		var lines []protocol.LogLine
		text, err := unpacker.DecodeAll(p.Content, nil)
		if err == nil {
			err = json.Unmarshal(text, &lines)
		}
		if err != nil {
			return out, err
		}
		out.Lines = append(out.Lines, lines[max(0, out.First-p.First):min(len(lines), out.First+l.Most-p.First)]...)
	}
	return out, nil
}

// endLogs removes the growing logs of tasks that ended; no tasks: of all.
func endLogs(ctx context.Context, tx *sqlx.Tx, run runHead, tasks []int64) error {
	_, err := tx.ExecContext(ctx, `
		DELETE FROM growing_logs WHERE repository_id = $1 AND run_id = $2 AND ($3::bigint[] IS NULL OR task_id = ANY($3))`,
		run.Repository, run.ID, tasks)
	return err
}
