package records

import (
	"context"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

// InvalidError says that a change is not allowed, whoever asks for it.
type InvalidError struct{ Err error }

func (e InvalidError) Error() string { return e.Err.Error() }

// Audit is an action of somebody who may manage a repository.
type Audit struct {
	Repository int64
	Actor      string // the name of a token, or of the command on the service's machine
	Address    string // where the request came from
	Action     string
	Subject    string
	Detail     string
}

// NoteAudit records an action.
func (db *DB) NoteAudit(ctx context.Context, a Audit) error {
	_, err := db.ExecContext(ctx, `
		INSERT INTO audit (repository_id, actor, address, action, subject, detail) VALUES ($1, $2, $3, $4, $5, $6)`,
		a.Repository, a.Actor, a.Address, a.Action, a.Subject, a.Detail)
	return err
}

// command is who acts when a command on the service's machine changes something.
const command = "grayloftd"

// NoteCommand records an action of a command on the service's machine.
func (db *DB) NoteCommand(ctx context.Context, repository string, a Audit) (err error) {
	if a.Repository, err = db.RepositoryID(ctx, repository); err != nil {
		return err
	}
	a.Actor, a.Address = command, "this machine"
	return db.NoteAudit(ctx, a)
}

// NoteTokenCommand records what a command on the service's machine did to a
// token.
func (db *DB) NoteTokenCommand(ctx context.Context, id int64, action string) error {
	_, err := db.ExecContext(ctx, `
		INSERT INTO audit (repository_id, actor, address, action, subject, detail)
		SELECT repository_id, $2, 'this machine', $3, name, '' FROM tokens WHERE id = $1`, id, command, action)
	return err
}

// AuditPage returns actions, newest first, before one; 0 means from the newest.
func (db *DB) AuditPage(ctx context.Context, repository, before int64, limit int) (protocol.AuditPage, error) {
	page := protocol.AuditPage{Rows: []protocol.AuditRow{}}
	var rows []struct {
		ID      int64     `db:"id"`
		At      time.Time `db:"at"`
		Actor   string    `db:"actor"`
		Address string    `db:"address"`
		Action  string    `db:"action"`
		Subject string    `db:"subject"`
		Detail  string    `db:"detail"`
	}
	err := db.SelectContext(ctx, &rows, `
		SELECT id, at, actor, address, action, subject, detail FROM audit
		WHERE repository_id = $1 AND ($2::bigint = 0 OR id < $2) ORDER BY at DESC, id DESC LIMIT $3`, repository, before, limit+1)
	for i, r := range rows {
		if i == limit {
			page.Next = page.Rows[limit-1].ID
			break
		}
		page.Rows = append(page.Rows, protocol.AuditRow{
			ID: r.ID, At: r.At.UTC(), Actor: r.Actor, Address: r.Address, Action: r.Action, Subject: r.Subject, Detail: r.Detail,
		})
	}
	return page, err
}
