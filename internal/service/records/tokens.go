package records

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/core/shelf"
)

// Trusted is the shelf that everyone reads from.
const Trusted = shelf.Trusted

// Token is the identity of a client. Only a hash of its secret is stored.
type Token struct {
	ID           int64      `db:"id"`
	RepositoryID int64      `db:"repository_id"`
	Repository   string     `db:"repository"`
	Name         string     `db:"name"`
	WritesTo     string     `db:"writes_to"`
	ReadsFrom    texts      `db:"reads_from"`
	MayView      bool       `db:"may_view"`
	MayManage    bool       `db:"may_manage"`
	MayRequest   bool       `db:"may_request"` // runs on runners
	Serves       texts      `db:"serves"`      // pools that it may serve as a runner
	JobID        *int64     `db:"job_id"`      // the job that it is for; nil: it is not of a job
	ExpiresAt    *time.Time `db:"expires_at"`
	Current      bool       `db:"current"` // it was found by its current secret
	MadeBy       string     `db:"made_by"` // the token that made it; empty: a command on the service's machine
}

const tokenColumns = `t.id, t.repository_id, r.name AS repository, t.name, t.writes_to, t.reads_from,
	t.may_view, t.may_manage, t.may_request, t.serves, t.job_id, t.expires_at`

func (t Token) isExpired(now time.Time) bool { return t.ExpiresAt != nil && !t.ExpiresAt.After(now) }

// Shelf is the shelf that a token writes to without naming one.
func (t Token) Shelf() string {
	if head, ok := strings.CutSuffix(t.WritesTo, "*"); ok {
		return head + "default"
	}
	return t.WritesTo
}

// MayWrite tells whether the token writes to a shelf.
func (t Token) MayWrite(name string) bool { return t.WritesTo != "" && shelf.Matches(t.WritesTo, name) }

// Check refuses rights that would let untrusted outputs onto the trusted shelf.
func (t Token) Check() error {
	switch {
	case t.Name == "":
		return errors.New("a token needs a name: the person or job that uses it")
	case t.Repository == "":
		return errors.New("a token needs a repository")
	case strings.ContainsAny(t.Repository, "/ ?#"):
		return fmt.Errorf("%q is not a valid name of a repository", t.Repository)
	case t.MayRequest && t.WritesTo == "":
		return errors.New("a token that requests runs needs a shelf to write to: their results go there")
	case shelf.Matches(t.WritesTo, Trusted) && slices.ContainsFunc(t.ReadsFrom, func(s string) bool { return s != Trusted }):
		return fmt.Errorf(
			"a token that writes to %q may read only from %q: otherwise outputs of others could end up there",
			Trusted,
			Trusted,
		)
	}
	for _, pool := range t.Serves {
		if err := fleet.CheckPool(pool); err != nil {
			return err
		}
	}
	for _, s := range append([]string{t.WritesTo}, t.ReadsFrom...) {
		if s == "" {
			continue
		}
		if err := checkShelf(s); err != nil {
			return err
		}
	}
	return nil
}

// checkShelf refuses what is neither a shelf nor a pattern of shelves.
func checkShelf(s string) error {
	if s != Trusted && !strings.HasPrefix(s, "branch/") && !strings.HasPrefix(s, "person/") {
		return fmt.Errorf("%q is not a shelf: use %q, \"branch/…\" or \"person/…\"", s, Trusted)
	}
	return nil
}

func hashSecret(secret string) []byte {
	d := digest.Derive("grayloft 2026-11-23 token v1", []byte(secret))
	return d[:]
}

func newSecret() string { return "loft-" + randomText() }

// NewToken makes a token, and the repository if it is new. The secret is
// returned once and not stored.
func (db *DB) NewToken(ctx context.Context, t Token) (secret string, err error) {
	_, secret, err = db.MakeToken(ctx, t)
	return secret, err
}

// MakeToken is [DB.NewToken], and returns the token's id as well. An error about
// its rights is an [InvalidError].
func (db *DB) MakeToken(ctx context.Context, t Token) (id int64, secret string, err error) {
	if err := t.Check(); err != nil {
		return 0, "", InvalidError{err}
	}
	secret = newSecret()
	err = db.inTx(ctx, func(tx *sqlx.Tx) error {
		var repo int64
		if err := tx.GetContext(ctx, &repo, `
			INSERT INTO repositories (name) VALUES ($1)
			ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id`, t.Repository); err != nil {
			return err
		}
		return tx.GetContext(ctx, &id, `
			INSERT INTO tokens (repository_id, name, secret_hash, writes_to, reads_from, may_view, may_manage, expires_at, made_by,
				may_request, serves)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING id`,
			repo, t.Name, hashSecret(secret), t.WritesTo, append([]string{}, t.ReadsFrom...), t.MayView, t.MayManage, t.ExpiresAt, t.MadeBy,
			t.MayRequest, append([]string{}, t.Serves...))
	})
	return id, secret, err
}

// ErrExpired is returned for an expired token.
var ErrExpired = errors.New("the token has expired")

// FindToken returns the token with a secret.
func (db *DB) FindToken(ctx context.Context, secret string) (Token, error) {
	var t Token
	err := db.GetContext(ctx, &t, `
		SELECT `+tokenColumns+`, t.secret_hash = $1 AS current
		FROM tokens t JOIN repositories r ON r.id = t.repository_id
		WHERE t.revoked_at IS NULL AND (t.secret_hash = $1 OR t.old_hash = $1 AND t.old_until > now())`, hashSecret(secret))
	if err != nil {
		return t, missing(err, "token")
	}
	if t.isExpired(time.Now()) {
		return t, ErrExpired
	}
	return t, nil
}

// Rotation says how a token gets a new secret.
type Rotation struct {
	Current string        // must be the token's current secret; empty: the caller manages tokens
	Grace   time.Duration // how long the previous secret stays valid, so that its user can switch
	Expires *time.Time    // the token's new expiry; nil: it does not change
}

// Rotate gives a token a new secret, returned once, and ends its sessions.
// [ErrNotExist] is returned if the token was revoked, or if another rotation was
// first.
func (db *DB) Rotate(ctx context.Context, id int64, how Rotation) (secret string, err error) {
	secret = newSecret()
	var only []byte
	if how.Current != "" {
		only = hashSecret(how.Current)
	}
	return secret, db.inTx(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.ExecContext(ctx, `
			UPDATE tokens SET old_hash = secret_hash, old_until = now() + make_interval(secs => $3), secret_hash = $2,
				expires_at = coalesce($4, expires_at)
			WHERE id = $1 AND revoked_at IS NULL AND ($5::bytea IS NULL OR secret_hash = $5)`,
			id, hashSecret(secret), how.Grace.Seconds(), how.Expires, only)
		if err != nil {
			return err
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("%w: token %d with this secret", ErrNotExist, id)
		}
		return endToken(ctx, tx, id)
	})
}

// endToken ends the sessions of a token, and tells every replica to forget what
// it remembers of the token.
func endToken(ctx context.Context, tx *sqlx.Tx, id int64) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE token_id = $1`, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", tokenChannel, fmt.Sprint(id))
	return err
}

// Revoke revokes a token at once.
func (db *DB) Revoke(ctx context.Context, id int64) error {
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.ExecContext(ctx, `UPDATE tokens SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL`, id)
		if err != nil {
			return err
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("%w: token %d", ErrNotExist, id)
		}
		return endToken(ctx, tx, id)
	})
}

// Tokens returns the tokens of a repository that are not revoked, expired ones
// too, in the order in which they were made.
func (db *DB) Tokens(ctx context.Context, repository string) ([]Token, error) {
	out := []Token{}
	err := db.SelectContext(ctx, &out, `
		SELECT `+tokenColumns+`, true AS current FROM tokens t JOIN repositories r ON r.id = t.repository_id
		WHERE r.name = $1 AND t.revoked_at IS NULL AND t.job_id IS NULL ORDER BY t.id`, repository)
	return out, err
}

// MayRead tells whether the token reads from a shelf.
func (t Token) MayRead(name string) bool {
	return slices.ContainsFunc(t.ReadsFrom, func(p string) bool { return shelf.Matches(p, name) })
}

// IsValid tells whether a token is neither revoked nor expired.
func (db *DB) IsValid(ctx context.Context, id int64) (valid bool, err error) {
	return valid, db.GetContext(ctx, &valid, `
		SELECT EXISTS (SELECT FROM tokens WHERE id = $1 AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > now()))`, id)
}
