package fleet

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// joinLock is the class of the advisory locks by which members of a join take turns at a task.
const joinLock = 0x10f7_0004

// shelfOf returns the shelf that a token writes to without naming one.
func shelfOf(t records.Token) string {
	if head, ok := strings.CutSuffix(t.WritesTo, "*"); ok {
		return head + "default"
	}
	return t.WritesTo
}

// Join makes a run a member of a join, and the join if it is new. All members have the same
// plan and write to the same shelf.
func (f *Fleet) Join(ctx context.Context, t records.Token, h protocol.JoinHello) error {
	return f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		var have struct {
			Plan  []byte `db:"plan"`
			Shelf string `db:"shelf"`
		}
		if err := tx.GetContext(ctx, &have, `
			INSERT INTO joins (repository_id, id, plan, shelf) VALUES ($1, $2, $3, $4)
			ON CONFLICT (repository_id, id) DO UPDATE SET id = excluded.id RETURNING plan, shelf`,
			t.RepositoryID, h.ID, h.Plan[:], shelfOf(t)); err != nil {
			return err
		}
		switch {
		case string(have.Plan) != string(h.Plan[:]):
			return ConflictError{fmt.Sprintf("the other members of %s have another plan: give all the same commit, tasks, settings and "+
				"arguments", h.ID)}
		case have.Shelf != shelfOf(t):
			return ConflictError{fmt.Sprintf("the other members of %s write to the shelf %s, this one to %s: give all the same rights",
				h.ID, have.Shelf, shelfOf(t))}
		}
		return nil
	})
}

// joinRow is a task of a join as it is stored.
type joinRow struct {
	Key         []byte           `db:"key"`
	Ingredients []byte           `db:"ingredients"`
	Token       int64            `db:"token_id"`
	Run         string           `db:"run_id"`
	Place       string           `db:"place"`
	Name        string           `db:"name"`
	Seconds     float64          `db:"seconds"`
	Elapsed     float64          `db:"elapsed"`
	State       decide.JoinState `db:"state"`
	Message     string           `db:"message"`
	Alive       bool             `db:"alive"`
}

// Step says what a member of a join does with a task that it would run.
func (f *Fleet) Step(ctx context.Context, t records.Token, join string, a protocol.JoinAsk) (answer protocol.JoinAnswer, err error) {
	err = f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1, hashtext($2))`, joinLock, join+" "+a.Task); err != nil {
			return err
		}
		var row joinRow
		err := tx.GetContext(ctx, &row, `
			SELECT j.key, j.ingredients, j.token_id, j.run_id, j.place, coalesce(k.name, '') AS name, j.seconds, j.state, j.message,
				j.lease_until > now() AS alive, greatest(0, extract(epoch FROM now() - j.began_at))::float8 AS elapsed
			FROM join_tasks j LEFT JOIN tokens k ON k.id = j.token_id
			WHERE j.repository_id = $1 AND j.join_id = $2 AND j.task = $3`, t.RepositoryID, join, a.Task)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		known := decide.JoinTask{State: row.State, Own: row.Run == a.Run && row.Token == t.ID, Alive: row.Alive}
		if known.Differ = known.State != "" && !known.Own && string(row.Key) != string(a.Key[:]); known.Differ {
			answer.Differ = differences(row.Ingredients, a.Ingredients)
		}
		answer.Step = decide.Joined(known, decide.JoinAsk{Shareable: a.Shareable, Once: a.Once, Missing: a.Missing})
		if known.State != "" && !known.Own {
			answer.Message = row.Message
			answer.Other = &protocol.HeldClaim{Run: row.Run, Name: row.Name, Place: row.Place, Elapsed: row.Elapsed, Seconds: row.Seconds}
		}
		if answer.Step != decide.StepRun {
			return nil
		}
		// What cannot be shared runs on several members: the first one's record stays.
		if known.State != "" && !known.Own && !a.Shareable {
			return nil
		}
		return f.runInJoin(ctx, tx, t, join, a)
	})
	return answer, err
}

// runInJoin makes a task the member's, for a lease.
func (f *Fleet) runInJoin(ctx context.Context, tx *sqlx.Tx, t records.Token, join string, a protocol.JoinAsk) error {
	text, err := json.Marshal(a.Ingredients)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		INSERT INTO join_tasks (repository_id, join_id, task, key, ingredients, token_id, run_id, place, seconds, state, lease_until)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, 'running', now() + make_interval(secs => $10))
		ON CONFLICT (repository_id, join_id, task) DO UPDATE SET key = excluded.key, ingredients = excluded.ingredients,
			token_id = excluded.token_id, run_id = excluded.run_id, place = excluded.place, seconds = excluded.seconds,
			state = 'running', message = '', began_at = now(), lease_until = excluded.lease_until`,
		t.RepositoryID, join, a.Task, a.Key[:], text, t.ID, a.Run, a.Place, a.Seconds, f.Lease.Seconds())
	return err
}

// differences names the ingredients that two members do not agree on.
func differences(stored []byte, mine map[string]string) []string {
	theirs := map[string]string{}
	if json.Unmarshal(stored, &theirs) != nil {
		return []string{}
	}
	out := []string{}
	for name := range maps.Keys(theirs) {
		if mine[name] != theirs[name] {
			out = append(out, name)
		}
	}
	for name := range mine {
		if _, ok := theirs[name]; !ok {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Report records how tasks of a member stand, and renews their leases. A task that another
// member has taken over is left alone.
func (f *Fleet) Report(ctx context.Context, t records.Token, join string, r protocol.JoinReport) error {
	_, err := f.DB.ExecContext(ctx, `
		UPDATE join_tasks SET state = $5, message = $6, lease_until = now() + make_interval(secs => $7)
		WHERE repository_id = $1 AND join_id = $2 AND token_id = $3 AND run_id = $4 AND task = ANY($8) AND state = 'running'
			AND ($5 <> 'running' OR lease_until > now())`,
		t.RepositoryID, join, t.ID, r.Run, string(r.State), r.Message, f.Lease.Seconds(), append([]string{}, r.Tasks...))
	return err
}
