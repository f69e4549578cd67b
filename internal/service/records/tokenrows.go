package records

import (
	"context"
	"strings"
	"time"
)

// TokenRow is a token as it is listed.
type TokenRow struct {
	Token
	MadeAt time.Time  `db:"created_at"`
	Used   *time.Time `db:"used_at"`
}

const tokenRowColumns = tokenColumns + `, true AS current, t.made_by, t.created_at, t.used_at`

// TokenRows returns the tokens of a repository that are not revoked, expired
// ones too, in the order in which they were made.
func (db *DB) TokenRows(ctx context.Context, repository int64) ([]TokenRow, error) {
	out := []TokenRow{}
	return out, db.SelectContext(ctx, &out, `
		SELECT `+tokenRowColumns+` FROM tokens t JOIN repositories r ON r.id = t.repository_id
		WHERE t.repository_id = $1 AND t.revoked_at IS NULL AND t.job_id IS NULL ORDER BY t.id`, repository)
}

// TokenRow returns one token of a repository that is not revoked.
func (db *DB) TokenRow(ctx context.Context, repository, id int64) (t TokenRow, err error) {
	err = db.GetContext(ctx, &t, `
		SELECT `+tokenRowColumns+` FROM tokens t JOIN repositories r ON r.id = t.repository_id
		WHERE t.repository_id = $1 AND t.id = $2 AND t.revoked_at IS NULL AND t.job_id IS NULL`, repository, id)
	return t, missing(err, "token")
}

// OtherRights names the rights of a token other than to shelves.
func (t Token) OtherRights() []string {
	var out []string
	for _, right := range []struct {
		name string
		has  bool
	}{
		{"view", t.MayView}, {"request", t.MayRequest},
		{"serve " + strings.Join(t.Serves, ", "), len(t.Serves) > 0}, {"manage", t.MayManage},
	} {
		if right.has {
			out = append(out, right.name)
		}
	}
	return out
}

// Rights describes what a token may do, for the audit log.
func Rights(t Token) string {
	var out []string
	if t.WritesTo != "" {
		out = append(out, "writes to "+t.WritesTo)
	}
	if len(t.ReadsFrom) > 0 {
		out = append(out, "reads from "+strings.Join(t.ReadsFrom, ", "))
	}
	out = append(out, t.OtherRights()...)
	if t.ExpiresAt != nil {
		out = append(out, "until "+t.ExpiresAt.UTC().Format(time.DateOnly))
	}
	return strings.Join(out, "; ")
}
