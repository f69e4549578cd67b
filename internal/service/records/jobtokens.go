package records

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// NewJobToken makes the token of a job, which ends with it, and returns its secret. Tokens
// of earlier attempts end.
func NewJobToken(ctx context.Context, tx *sqlx.Tx, job int64, t Token) (secret string, err error) {
	if err := t.Check(); err != nil {
		return "", InvalidError{err}
	}
	if err := EndJobToken(ctx, tx, job); err != nil {
		return "", err
	}
	secret = newSecret()
	_, err = tx.ExecContext(ctx, `
		INSERT INTO tokens (repository_id, name, secret_hash, writes_to, reads_from, expires_at, made_by, job_id)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		t.RepositoryID, t.Name, hashSecret(secret), t.WritesTo, append([]string{}, t.ReadsFrom...), t.ExpiresAt, t.MadeBy, job)
	return secret, err
}

// EndJobToken revokes the token of a job at once. What its client claimed is free: nobody
// waits for a client whose results would be refused.
func EndJobToken(ctx context.Context, tx *sqlx.Tx, job int64) error {
	var ended []int64
	if err := tx.SelectContext(ctx, &ended, `
		UPDATE tokens SET revoked_at = now() WHERE job_id = $1 AND revoked_at IS NULL RETURNING id`, job); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM claims WHERE token_id = ANY($1)`, ended); err != nil {
		return err
	}
	for _, id := range ended {
		if err := endToken(ctx, tx, id); err != nil {
			return fmt.Errorf("ending the token of job %d: %w", job, err)
		}
	}
	return nil
}

// NoteJobRun records that the job of a token is the run.
func (db *DB) NoteJobRun(ctx context.Context, t Token, run string) error {
	if t.JobID == nil {
		return nil
	}
	_, err := db.ExecContext(ctx, `UPDATE jobs SET run_id = $3 WHERE repository_id = $1 AND id = $2 AND state = 'running'`,
		t.RepositoryID, *t.JobID, run)
	return err
}
