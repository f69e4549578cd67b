package records

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
)

// Trusted is the shelf that everyone reads from, and only CI on protected
// branches writes to.
const Trusted = "trusted"

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
	ExpiresAt    *time.Time `db:"expires_at"`
}

// MayWrite tells whether the token writes to a shelf.
func (t Token) MayWrite(shelf string) bool { return t.WritesTo != "" && onShelf(t.WritesTo, shelf) }

func onShelf(pattern, shelf string) bool {
	if head, ok := strings.CutSuffix(pattern, "*"); ok {
		return strings.HasPrefix(shelf, head) && len(shelf) > len(head)
	}
	return pattern == shelf
}

// Check refuses rights that would let untrusted outputs onto the trusted shelf.
func (t Token) Check() error {
	switch {
	case t.Name == "":
		return errors.New("a token needs a name: the person or job that uses it")
	case t.Repository == "":
		return errors.New("a token needs a repository")
	case strings.ContainsAny(t.Repository, "/ ?#"):
		return fmt.Errorf("%q is not a valid name of a repository", t.Repository)
	case onShelf(t.WritesTo, Trusted) && slices.ContainsFunc(t.ReadsFrom, func(s string) bool { return s != Trusted }):
		return fmt.Errorf(
			"a token that writes to %q may read only from %q: otherwise outputs of others could end up there",
			Trusted,
			Trusted,
		)
	}
	for _, s := range append([]string{t.WritesTo}, t.ReadsFrom...) {
		if s != "" && s != Trusted && !strings.HasPrefix(s, "branch/") && !strings.HasPrefix(s, "person/") {
			return fmt.Errorf("%q is not a shelf: use %q, \"branch/…\" or \"person/…\"", s, Trusted)
		}
	}
	return nil
}

func hashSecret(secret string) []byte {
	d := digest.Derive("grayloft 2026-11-23 token v1", []byte(secret))
	return d[:]
}

func newSecret() string {
	var b [20]byte
	_, _ = rand.Read(b[:])
	return "loft-" + strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}

// NewToken makes a token, and the repository if it is new. The secret is
// returned once and not stored.
func (db *DB) NewToken(ctx context.Context, t Token) (secret string, err error) {
	if err := t.Check(); err != nil {
		return "", err
	}
	secret = newSecret()
	return secret, db.inTx(ctx, func(tx *sqlx.Tx) error {
		var repo int64
		if err := tx.GetContext(ctx, &repo, `
			INSERT INTO repositories (name) VALUES ($1)
			ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id`, t.Repository); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
			INSERT INTO tokens (repository_id, name, secret_hash, writes_to, reads_from, may_view, may_manage, expires_at)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
			repo, t.Name, hashSecret(secret), t.WritesTo, append([]string{}, t.ReadsFrom...), t.MayView, t.MayManage, t.ExpiresAt)
		return err
	})
}

// ErrExpired is returned for an expired token.
var ErrExpired = errors.New("the token has expired")

// FindToken returns the token with a secret.
func (db *DB) FindToken(ctx context.Context, secret string) (Token, error) {
	var t Token
	err := db.GetContext(ctx, &t, `
		SELECT t.id, t.repository_id, r.name AS repository, t.name, t.writes_to, t.reads_from, t.may_view, t.may_manage, t.expires_at
		FROM tokens t JOIN repositories r ON r.id = t.repository_id
		WHERE t.revoked_at IS NULL AND (t.secret_hash = $1 OR t.old_hash = $1 AND t.old_until > now())`, hashSecret(secret))
	if err != nil {
		return t, missing(err, "token")
	}
	if t.ExpiresAt != nil && t.ExpiresAt.Before(time.Now()) {
		return t, ErrExpired
	}
	return t, nil
}

// Rotate gives a token a new secret, returned once. The previous one stays
// valid until grace is over, so that its user can switch. With expires, the
// token's expiry changes; without, it does not.
func (db *DB) Rotate(ctx context.Context, id int64, grace time.Duration, expires *time.Time) (secret string, err error) {
	secret = newSecret()
	res, err := db.ExecContext(ctx, `
		UPDATE tokens SET old_hash = secret_hash, old_until = now() + make_interval(secs => $3), secret_hash = $2,
			expires_at = coalesce($4, expires_at)
		WHERE id = $1 AND revoked_at IS NULL`, id, hashSecret(secret), grace.Seconds(), expires)
	if err != nil {
		return "", err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return "", fmt.Errorf("%w: token %d", ErrNotExist, id)
	}
	return secret, nil
}

// Revoke revokes a token at once.
func (db *DB) Revoke(ctx context.Context, id int64) error {
	res, err := db.ExecContext(ctx, `UPDATE tokens SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL`, id)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return fmt.Errorf("%w: token %d", ErrNotExist, id)
	}
	return nil
}

// Tokens returns the tokens of a repository that are not revoked, expired ones
// too, in the order in which they were made.
func (db *DB) Tokens(ctx context.Context, repository string) ([]Token, error) {
	out := []Token{}
	err := db.SelectContext(ctx, &out, `
		SELECT t.id, t.repository_id, r.name AS repository, t.name, t.writes_to, t.reads_from, t.may_view, t.may_manage, t.expires_at
		FROM tokens t JOIN repositories r ON r.id = t.repository_id
		WHERE r.name = $1 AND t.revoked_at IS NULL ORDER BY t.id`, repository)
	return out, err
}
