package fleet

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// joinLock is the class of the advisory locks by which members of a join take turns at a task.
const joinLock = 0x10f7_0004

// mostMembers is how many runs take part in one join at most.
const mostMembers = 1000

// Join makes a run a member of a join, and the join if it is new. All members have the same
// plan. A join belongs to the shelf that its members write to: those of other shelves neither
// take part in it nor are in the way of its name.
func (f *Fleet) Join(ctx context.Context, t records.Token, h protocol.JoinHello) (joined protocol.JoinWelcome, err error) {
	err = f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		var plan []byte
		if err := tx.GetContext(ctx, &plan, `
			INSERT INTO joins (repository_id, id, plan, shelf) VALUES ($1, $2, $3, $4)
			ON CONFLICT (repository_id, shelf, id) DO UPDATE SET id = excluded.id RETURNING plan`,
			t.RepositoryID, h.ID, h.Plan[:], t.Shelf()); err != nil {
			return err
		}
		if string(plan) != string(h.Plan[:]) {
			return ConflictError{fmt.Sprintf("the other members of %s have another plan: give all the same commit, tasks, settings and "+
				"arguments", h.ID)}
		}
		var members int
		if err := tx.GetContext(ctx, &members, `
			SELECT count(*) FROM join_members WHERE repository_id = $1 AND shelf = $2 AND join_id = $3`,
			t.RepositoryID, t.Shelf(), h.ID); err != nil {
			return err
		}
		if members >= mostMembers {
			return ConflictError{fmt.Sprintf("%s has %d members, which is the most: give another name", h.ID, members)}
		}
		_, err := tx.ExecContext(ctx, `
			INSERT INTO join_members (repository_id, shelf, join_id, token_id, run_id) VALUES ($1, $2, $3, $4, $5)
			ON CONFLICT DO NOTHING`,
			t.RepositoryID, t.Shelf(), h.ID, t.ID, h.Run)
		return err
	})
	if err == nil {
		joined.Elsewhere, err = f.elsewhere(ctx, t, h.ID)
	}
	return joined, err
}

// elsewhere returns another shelf, of those that a token reads, with a young join of the same
// name; empty: there is none.
func (f *Fleet) elsewhere(ctx context.Context, t records.Token, join string) (string, error) {
	var shelves []string
	err := f.DB.SelectContext(ctx, &shelves, `
		SELECT shelf FROM joins WHERE repository_id = $1 AND id = $2 AND shelf <> $3 AND made_at > now() - interval '1 day'
		ORDER BY shelf LIMIT 100`, t.RepositoryID, join, t.Shelf())
	if i := slices.IndexFunc(shelves, t.MayRead); err == nil && i >= 0 {
		return shelves[i], nil
	}
	return "", err
}

// requireMember fails for a run that is no member of a join, or that another token announced.
func requireMember(ctx context.Context, tx *sqlx.Tx, t records.Token, join, run string) error {
	var is bool
	err := tx.GetContext(ctx, &is, `
		SELECT EXISTS (SELECT FROM join_members
			WHERE repository_id = $1 AND shelf = $2 AND join_id = $3 AND token_id = $4 AND run_id = $5)`,
		t.RepositoryID, t.Shelf(), join, t.ID, run)
	if err == nil && !is {
		return ConflictError{fmt.Sprintf("this run is no member of %s: a run takes part from its beginning, with one token", join)}
	}
	return err
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
		place := t.Shelf() + " " + join + " " + a.Task
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1, hashtext($2))`, joinLock, place); err != nil {
			return err
		}
		if err := requireMember(ctx, tx, t, join, a.Run); err != nil {
			return err
		}
		var row joinRow
		err := tx.GetContext(ctx, &row, `
			SELECT j.key, j.ingredients, j.token_id, j.run_id, j.place, coalesce(k.name, '') AS name, j.seconds, j.state, j.message,
				j.lease_until > now() AS alive, greatest(0, extract(epoch FROM now() - j.began_at))::float8 AS elapsed
			FROM join_tasks j LEFT JOIN tokens k ON k.id = j.token_id
			WHERE j.repository_id = $1 AND j.join_id = $2 AND j.task = $3 AND j.shelf = $4`, t.RepositoryID, join, a.Task, t.Shelf())
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
		INSERT INTO join_tasks (repository_id, join_id, task, key, ingredients, token_id, run_id, place, seconds, state, lease_until, shelf)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, 'running', now() + make_interval(secs => $10), $11)
		ON CONFLICT (repository_id, shelf, join_id, task) DO UPDATE SET key = excluded.key, ingredients = excluded.ingredients,
			token_id = excluded.token_id, run_id = excluded.run_id, place = excluded.place, seconds = excluded.seconds,
			state = 'running', message = '', began_at = now(), lease_until = excluded.lease_until`,
		t.RepositoryID, join, a.Task, a.Key[:], text, t.ID, a.Run, a.Place, a.Seconds, f.Lease.Seconds(), t.Shelf())
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
	return f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		if err := requireMember(ctx, tx, t, join, r.Run); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
			UPDATE join_tasks SET state = $5, message = $6, lease_until = now() + make_interval(secs => $7)
			WHERE repository_id = $1 AND join_id = $2 AND token_id = $3 AND run_id = $4 AND task = ANY($8) AND shelf = $9
				AND state = 'running' AND ($5 <> 'running' OR lease_until > now())`,
			t.RepositoryID, join, t.ID, r.Run, string(r.State), r.Message, f.Lease.Seconds(), append([]string{}, r.Tasks...), t.Shelf())
		return err
	})
}
