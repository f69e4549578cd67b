package records

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Session is a browser that is signed in. Its secrets are returned once and
// stored only as hashes.
type Session struct {
	ID   string // in the cookie: it may read
	Page string // known to the page alone, which sends it with what changes something
}

// SessionFor is how long a session lasts, unless its token ends earlier.
const SessionFor = 14 * 24 * time.Hour

// mostSessions limits the sessions of one token: the oldest end first.
const mostSessions = 50

func hashSession(kind, secret string) []byte {
	d := digest.Derive("grayloft 2026-11-25 session "+kind, []byte(secret))
	return d[:]
}

func randomText() string {
	var b [20]byte
	_, _ = rand.Read(b[:])
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}

// NewSession starts a session of a token.
func (db *DB) NewSession(ctx context.Context, t Token) (Session, error) {
	s := Session{ID: randomText(), Page: randomText()}
	_, err := db.ExecContext(ctx, `
		INSERT INTO sessions (id_hash, page_hash, token_id, expires_at) VALUES ($1, $2, $3, now() + make_interval(secs => $4))`,
		hashSession("id", s.ID), hashSession("page", s.Page), t.ID, SessionFor.Seconds())
	if err != nil {
		return s, err
	}
	_, err = db.ExecContext(ctx, `
		DELETE FROM sessions WHERE id_hash IN (
			SELECT id_hash FROM sessions WHERE token_id = $1 ORDER BY created_at DESC OFFSET $2)`, t.ID, mostSessions)
	return s, err
}

// FindSession returns the token of a session, which ends with its token. Page
// tells whether the page's secret is right.
func (db *DB) FindSession(ctx context.Context, s Session) (t Token, page bool, err error) {
	var row struct {
		Token
		PageHash []byte `db:"page_hash"`
	}
	if err := db.GetContext(ctx, &row, `
		SELECT `+tokenColumns+`, false AS current, s.page_hash
		FROM sessions s JOIN tokens t ON t.id = s.token_id JOIN repositories r ON r.id = t.repository_id
		WHERE s.id_hash = $1 AND s.expires_at > now() AND t.revoked_at IS NULL`, hashSession("id", s.ID)); err != nil {
		return t, false, missing(err, "session")
	}
	if row.isExpired(time.Now()) {
		return row.Token, false, ErrExpired
	}
	return row.Token, s.Page != "" && string(row.PageHash) == string(hashSession("page", s.Page)), nil
}

// EndSession ends a session.
func (db *DB) EndSession(ctx context.Context, s Session) error {
	_, err := db.ExecContext(ctx, `DELETE FROM sessions WHERE id_hash = $1`, hashSession("id", s.ID))
	if err != nil {
		return fmt.Errorf("ending a session: %w", err)
	}
	return nil
}
