package fleet

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

func stateOf(jobs []string) fleet.State {
	states := make([]fleet.State, len(jobs))
	for i, s := range jobs {
		states[i] = fleet.State(s)
	}
	return fleet.Of(states)
}

// Protection returns what is protected in a repository.
func (f *Fleet) Protection(ctx context.Context, repository int64) (fleet.Protection, error) {
	return protection(ctx, f.DB, repository)
}

func protection(ctx context.Context, q sqlx.QueryerContext, repository int64) (p fleet.Protection, err error) {
	var row struct {
		Refs  records.Array[string] `db:"protected_refs"`
		Pools records.Array[string] `db:"protected_pools"`
	}
	err = sqlx.GetContext(ctx, q, &row, `SELECT protected_refs, protected_pools FROM repositories WHERE id = $1`, repository)
	return fleet.Protection{Refs: append([]string{}, row.Refs...), Pools: append([]string{}, row.Pools...)}, err
}

// Protect changes what is protected. Requests that wait keep what held when they were made;
// whether their commits are protected is checked when they start.
func (f *Fleet) Protect(ctx context.Context, repository int64, p fleet.Protection) error {
	if err := p.Check(); err != nil {
		return records.InvalidError{Err: err}
	}
	_, err := f.DB.ExecContext(ctx, `UPDATE repositories SET protected_refs = $2, protected_pools = $3 WHERE id = $1`,
		repository, append([]string{}, p.Refs...), append([]string{}, p.Pools...))
	return err
}

// check refuses what cannot be carried out.
func check(a protocol.Ask, protected bool) error {
	switch {
	case fleet.CheckPool(a.Pool) != nil:
		return fleet.CheckPool(a.Pool)
	case len(a.Tasks) == 0 && a.Pick == "":
		return errors.New("a request needs tasks or a pick")
	case a.Commit == "" && a.Branch == "":
		return errors.New("a request needs a commit or a branch")
	case a.Changes != nil && a.Commit == "":
		return errors.New("local changes need the commit that they belong to")
	case protected && a.Changes != nil:
		return fmt.Errorf("the pool %q carries out protected jobs alone, so without local changes: request them from another pool", a.Pool)
	case protected && len(a.Args) > 0:
		return fmt.Errorf("the pool %q carries out protected jobs alone, so without arguments after \"--\"", a.Pool)
	case a.Preview && a.Spread > 1:
		return errors.New("a preview needs one runner: leave out the spread")
	}
	return nil
}

// Make makes a request and puts its jobs into the queue. An error about what is requested is
// a [records.InvalidError]. If another request has the same source, that one is returned.
func (f *Fleet) Make(ctx context.Context, t records.Token, o Origin, a protocol.Ask) (made protocol.RequestMade, err error) {
	a.Spread, a.Tasks = max(1, a.Spread), append([]string{}, a.Tasks...)
	if a.Priority == 0 {
		a.Priority = protocol.PriorityNormal
	}
	text, err := json.Marshal(a)
	if err != nil {
		return made, err
	}
	return made, f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		p, err := protection(ctx, tx, t.RepositoryID)
		if err != nil {
			return err
		}
		protected := p.HasPool(a.Pool)
		if err := check(a, protected); err != nil {
			return records.InvalidError{Err: err}
		}
		made.Shelf = fleet.Asker{Name: t.Name, WritesTo: t.WritesTo}.Shelf(protected, a.Branch)
		open, err := openOf(ctx, tx, t)
		if err != nil {
			return err
		}
		var changes []byte
		if a.Changes != nil {
			changes = a.Changes.Blob[:]
			if err := hasBlob(ctx, tx, t.RepositoryID, a.Changes); err != nil {
				return err
			}
		}
		if err := tx.GetContext(ctx, &made.ID, `
			INSERT INTO requests (repository_id, token_id, name, origin, source, pool, shelf, protected, ask, changes)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
			ON CONFLICT (repository_id, source) WHERE source <> '' DO NOTHING RETURNING id`,
			t.RepositoryID, t.ID, t.Name, o.Kind, o.Source, a.Pool, made.Shelf, protected, text, changes); errors.Is(err, sql.ErrNoRows) {
			return tx.GetContext(ctx, &made.ID, `
				SELECT id FROM requests WHERE repository_id = $1 AND source = $2`, t.RepositoryID, o.Source)
		} else if err != nil {
			return err
		}
		for member := 1; member <= a.Spread; member++ {
			offer := Offer{Repository: t.RepositoryID, Queue: queueOf(t.RepositoryID, a.Pool), Priority: fleet.Turn(a.Priority, open)}
			if err := tx.GetContext(ctx, &offer.Job, `
				INSERT INTO jobs (repository_id, request_id, member) VALUES ($1, $2, $3) RETURNING id`,
				t.RepositoryID, made.ID, member); err != nil {
				return err
			}
			if err := f.Queue.Insert(ctx, tx.Tx, offer); err != nil {
				return err
			}
		}
		return records.NotifyRequest(ctx, tx, t.RepositoryID, made.ID, false)
	})
}

// mostOpen is how many requests of one token may be open.
const mostOpen = 1000

// openOf returns how many requests of a token are open.
func openOf(ctx context.Context, tx *sqlx.Tx, t records.Token) (n int, err error) {
	err = tx.GetContext(ctx, &n, `
		SELECT count(*) FROM requests WHERE repository_id = $1 AND token_id = $2 AND name = $3 AND ended_at IS NULL`,
		t.RepositoryID, t.ID, t.Name)
	if err == nil && n >= mostOpen {
		err = ConflictError{fmt.Sprintf("%d requests of %s have not ended, which is the most: wait, or cancel some", n, t.Name)}
	}
	return n, err
}

// MayKnow tells whether a token may know what a request printed and planned, and its local
// changes: it may view records, made the request, or reads the shelf that the request writes to.
func (f *Fleet) MayKnow(ctx context.Context, t records.Token, id int64) (bool, error) {
	var row struct {
		Token int64  `db:"token_id"`
		Shelf string `db:"shelf"`
	}
	err := f.DB.GetContext(ctx, &row, `SELECT token_id, shelf FROM requests WHERE repository_id = $1 AND id = $2`, t.RepositoryID, id)
	if errors.Is(err, sql.ErrNoRows) {
		return false, missing("request", id)
	}
	return t.MayView || row.Token == t.ID || t.MayRead(row.Shelf), err
}

// hasBlob makes sure that the local changes are stored.
func hasBlob(ctx context.Context, tx *sqlx.Tx, repository int64, c *protocol.LocalChanges) error {
	var size int64
	err := tx.GetContext(ctx, &size, `
		SELECT size FROM blobs WHERE repository_id = $1 AND digest = $2 AND marked_at IS NULL FOR SHARE`, repository, c.Blob[:])
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return ConflictError{"the local changes are not stored: upload them first"}
	case err == nil && size > protocol.MaxChanges:
		return records.InvalidError{Err: fmt.Errorf("the local changes have %d bytes; at most %d are taken", size, protocol.MaxChanges)}
	}
	return err
}

// Cancel ends a request: jobs that wait at once, those that run as soon as their runners
// have stopped them.
func (f *Fleet) Cancel(ctx context.Context, t records.Token, id int64) error {
	return f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		var row struct {
			Token int64 `db:"token_id"`
			Ended bool  `db:"ended"`
		}
		err := tx.GetContext(ctx, &row, `
			SELECT token_id, ended_at IS NOT NULL AS ended FROM requests
			WHERE repository_id = $1 AND id = $2 FOR UPDATE`, t.RepositoryID, id)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return missing("request", id)
		case err != nil:
			return err
		case row.Token != t.ID && !t.MayManage:
			return ConflictError{fmt.Sprintf("request %d is another person's: that person can cancel it, or a token that may manage", id)}
		case row.Ended:
			return nil
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE requests SET cancelled_by = $2 WHERE id = $1 AND cancelled_by = ''`, id, t.Name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			UPDATE jobs SET state = 'cancelled', ended_at = now() WHERE request_id = $1 AND state = 'queued'`, id); err != nil {
			return err
		}
		return settle(ctx, tx, t.RepositoryID, id, true)
	})
}

// requestRow is a request as it is stored.
type requestRow struct {
	ID          int64      `db:"id"`
	Name        string     `db:"name"`
	Origin      string     `db:"origin"`
	Shelf       string     `db:"shelf"`
	Ask         []byte     `db:"ask"`
	State       string     `db:"state"`
	CancelledBy string     `db:"cancelled_by"`
	MadeAt      time.Time  `db:"made_at"`
	StartedAt   *time.Time `db:"started_at"`
	EndedAt     *time.Time `db:"ended_at"`
	Ahead       int        `db:"ahead"`
}

const requestColumns = `q.id, q.name, q.origin, q.shelf, q.ask, q.state, q.cancelled_by, q.made_at, q.started_at, q.ended_at,
	coalesce(w.ahead, 0) AS ahead`

// requestTables are requests q with their place among those that wait, counted once for all.
const requestTables = `requests q LEFT JOIN (
	SELECT id, row_number() OVER (PARTITION BY pool ORDER BY (ask->>'priority')::int, id) - 1 AS ahead
	FROM requests WHERE repository_id = $1 AND ended_at IS NULL AND state = 'queued') w ON w.id = q.id`

func (r requestRow) request() (protocol.Request, error) {
	q := protocol.Request{
		ID: r.ID, Name: r.Name, Origin: r.Origin, At: r.MadeAt.UTC(), State: fleet.State(r.State), Shelf: r.Shelf, Ahead: r.Ahead,
		Started: r.StartedAt, Ended: r.EndedAt, Jobs: []protocol.Job{}, CancelledBy: r.CancelledBy,
	}
	err := json.Unmarshal(r.Ask, &q.Ask)
	if q.Ask.Changes != nil { // whoever knows the digest can have them: that is its runner alone
		q.Ask.Changes.Blob = digest.Digest{}
	}
	return q, err
}

// Requests returns requests before an id (0: the newest), newest first; open: only those that
// have not ended; by: only those of a name.
func (f *Fleet) Requests(ctx context.Context, repository int64, s Selection) (page protocol.RequestPage, err error) {
	var rows []requestRow
	if err := f.DB.SelectContext(ctx, &rows, `
		SELECT `+requestColumns+` FROM `+requestTables+`
		WHERE q.repository_id = $1 AND ($2::bigint = 0 OR q.id < $2) AND ($3 = '' OR q.name = $3) AND (NOT $4 OR q.ended_at IS NULL)
		ORDER BY q.id DESC LIMIT $5`, repository, s.Before, s.Name, s.Open, s.Limit); err != nil {
		return page, err
	}
	page.Requests = []protocol.Request{}
	for _, r := range rows {
		q, err := r.request()
		if err != nil {
			return page, err
		}
		page.Requests = append(page.Requests, q)
	}
	if len(rows) == s.Limit {
		page.Next = rows[len(rows)-1].ID
	}
	return page, f.addJobs(ctx, repository, page.Requests)
}

// Selection selects requests.
type Selection struct {
	Before int64
	Name   string
	Open   bool
	Limit  int
}

// Request returns one request.
func (f *Fleet) Request(ctx context.Context, repository, id int64) (protocol.Request, error) {
	var r requestRow
	err := f.DB.GetContext(ctx, &r, `
		SELECT `+requestColumns+` FROM `+requestTables+` WHERE q.repository_id = $1 AND q.id = $2`, repository, id)
	if errors.Is(err, sql.ErrNoRows) {
		return protocol.Request{}, missing("request", id)
	}
	if err != nil {
		return protocol.Request{}, err
	}
	q, err := r.request()
	if err != nil {
		return q, err
	}
	one := []protocol.Request{q}
	err = f.addJobs(ctx, repository, one)
	return one[0], err
}

// addJobs adds the jobs to requests.
func (f *Fleet) addJobs(ctx context.Context, repository int64, list []protocol.Request) error {
	at := map[int64]int{}
	ids := make([]int64, len(list))
	for i, q := range list {
		at[q.ID], ids[i] = i, q.ID
	}
	var rows []struct {
		protocol.Job
		Request   int64      `db:"request_id"`
		StartedAt *time.Time `db:"started_at"`
		EndedAt   *time.Time `db:"ended_at"`
	}
	if err := f.DB.SelectContext(ctx, &rows, `
		SELECT j.request_id, j.id, j.member, j.attempt, j.state, coalesce(r.hello->>'name', '') AS runner, j.run_id AS run, j.commit,
			j.exit, j.message, j.plan IS NOT NULL AS plan, j.started_at, j.ended_at
		FROM jobs j LEFT JOIN runners r ON r.id = j.runner_id
		WHERE j.repository_id = $1 AND j.request_id = ANY($2) ORDER BY j.request_id, j.member`, repository, ids); err != nil {
		return err
	}
	for _, r := range rows {
		r.Started, r.Ended = r.StartedAt, r.EndedAt
		q := &list[at[r.Request]]
		q.Jobs = append(q.Jobs, r.Job)
	}
	return nil
}
