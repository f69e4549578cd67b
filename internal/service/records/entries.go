package records

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/shelf"
	"grayloft.example/grayloft/internal/protocol"
)

type entryRow struct {
	Shelf         string    `db:"shelf"`
	Key           []byte    `db:"key"`
	EarlyKey      []byte    `db:"early_key"`
	Task          string    `db:"task"`
	Listing       []byte    `db:"listing"`
	Log           []byte    `db:"log"`
	Ingredients   []byte    `db:"ingredients"`
	Reports       []byte    `db:"reports"`
	Seconds       float64   `db:"seconds"`
	Bytes         int64     `db:"bytes"`
	CheckoutPaths texts     `db:"checkout_paths"`
	MadeName      string    `db:"made_name"`
	MadeHost      string    `db:"made_host"`
	MadePlace     string    `db:"made_place"`
	MadeRun       string    `db:"made_run"`
	MadeAt        time.Time `db:"made_at"`
}

func (r entryRow) entry() protocol.Entry {
	return protocol.Entry{
		Key: asDigest(r.Key), EarlyKey: asDigest(r.EarlyKey), Task: r.Task, Listing: asDigest(r.Listing), Log: asDigest(r.Log),
		Ingredients: asDigest(
			r.Ingredients,
		), Reports: asDigest(r.Reports), Seconds: r.Seconds, Bytes: r.Bytes, CheckoutPaths: r.CheckoutPaths, Shelf: r.Shelf,
		MadeBy: protocol.Maker{Name: r.MadeName, Host: r.MadeHost, Place: r.MadePlace, Run: r.MadeRun, At: r.MadeAt.UTC()},
	}
}

const entryColumns = `shelf, key, early_key, task, listing, log, ingredients, reports, seconds, bytes, checkout_paths,
	made_name, made_host, made_place, made_run, made_at`

// Lookup returns candidates: for each key the entry of the first shelf that has
// one, in the order of the token's shelves; for each early key the newest few
// of each shelf.
func (db *DB) Lookup(ctx context.Context, t Token, keys, early []digest.Digest) ([]protocol.Entry, error) {
	shelves := matchesPattern(t.ReadsFrom)
	ranks := map[string]int{}
	rank := func(name string) int {
		n, known := ranks[name]
		if !known {
			n = slices.IndexFunc(t.ReadsFrom, func(p string) bool { return shelf.Matches(p, name) })
			ranks[name] = n
		}
		return n
	}
	found, err := inParts(ctx, keys, func(ctx context.Context, part []digest.Digest, room []protocol.Entry) ([]protocol.Entry, error) {
		return db.readEntries(ctx, room, `
			SELECT `+readColumns+` FROM unnest($2::bytea[]) AS w (k) CROSS JOIN LATERAL (
				SELECT * FROM entries WHERE repository_id = $1 AND key = w.k AND shelf LIKE ANY($3) OFFSET 0) e`,
			t.RepositoryID, digests(part), shelves)
	})
	if err != nil {
		return nil, err
	}
	more, err := inParts(ctx, early, func(ctx context.Context, part []digest.Digest, room []protocol.Entry) ([]protocol.Entry, error) {
		return db.readEntries(ctx, room, `
			SELECT `+readColumns+` FROM (SELECT DISTINCT k FROM unnest($2::bytea[]) AS w (k)) w CROSS JOIN LATERAL (
				SELECT *, row_number() OVER (PARTITION BY shelf ORDER BY filed_at DESC) AS newest
				FROM entries WHERE repository_id = $1 AND early_key = w.k AND shelf LIKE ANY($3)) e
			WHERE newest <= $4 ORDER BY newest`, t.RepositoryID, digests(part), shelves, protocol.EarlyAnswers)
	})
	if err != nil {
		return nil, err
	}
	seen := make(map[digest.Digest]bool, len(found))
	out := []protocol.Entry{}
	for _, list := range [][]protocol.Entry{found, more} {
		later := func(a, b protocol.Entry) int { return rank(a.Shelf) - rank(b.Shelf) }
		if !slices.IsSortedFunc(list, later) { // they usually are all from one shelf
			slices.SortStableFunc(list, later)
		}
		list = slices.DeleteFunc(list, func(e protocol.Entry) bool {
			had := seen[e.Key]
			seen[e.Key] = true
			return had
		})
		if len(out) == 0 && len(list) > 0 {
			out = list
		} else {
			out = append(out, list...)
		}
	}
	return out, nil
}

// lookupPart is how many keys one query asks for; several queries run in
// parallel.
const lookupPart = 1000

// inParts asks for digests in several parallel queries, and joins the answers
// in the order of the digests. Each query has room for as many entries as it has digests.
func inParts(
	ctx context.Context,
	list []digest.Digest,
	ask func(ctx context.Context, part []digest.Digest, room []protocol.Entry) ([]protocol.Entry, error),
) ([]protocol.Entry, error) {
	all := make([]protocol.Entry, len(list))
	answers := make([][]protocol.Entry, (len(list)+lookupPart-1)/lookupPart)
	g, ctx := errgroup.WithContext(ctx)
	for i := range answers {
		from, to := i*lookupPart, min(len(list), (i+1)*lookupPart)
		g.Go(func() (err error) {
			answers[i], err = ask(ctx, list[from:to], all[from:from:to])
			return err
		})
	}
	err := g.Wait()
	for i, part := range answers {
		if len(part) != min(len(list)-i*lookupPart, lookupPart) {
			return slices.Concat(answers...), err
		}
	}
	return all, err // each part fills its place
}

// matchesPattern turns shelves and patterns of shelves into patterns of LIKE.
func matchesPattern(patterns []string) []string {
	esc := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)
	out := []string{}
	for _, p := range patterns {
		if head, ok := strings.CutSuffix(p, "*"); ok {
			out = append(out, esc.Replace(head)+"_%")
		} else {
			out = append(out, esc.Replace(p))
		}
	}
	return out
}

// MissingError lists blobs that an entry names but the service does not have.
type MissingError struct{ Digests []digest.Digest }

func (e MissingError) Error() string {
	return amount.Count(len(e.Digests), "blob that it names is", "blobs that it names are") + " missing"
}

// SizeError says that a blob does not have the size that a listing declares.
type SizeError struct {
	Path           string
	Declared, Size int64
}

func (e SizeError) Error() string {
	return fmt.Sprintf("%q is declared with %d bytes, but its blob has %d", e.Path, e.Declared, e.Size)
}

// File stores an entry on a shelf unless one exists, and references everything
// that it names. Blob rows are locked in the order of their digests, in the
// transaction that inserts the entry.
func (db *DB) File(ctx context.Context, t Token, shelf string, e protocol.Entry, list listing.List) (protocol.Filed, error) {
	filed := protocol.Filed{Listing: e.Listing}
	contents := map[digest.Digest]listing.Row{}
	named := append([]digest.Digest{e.Listing, e.Ingredients}, e.Refs...)
	for _, d := range []digest.Digest{e.Log, e.Reports} {
		if !d.IsZero() {
			named = append(named, d)
		}
	}
	var parts []digest.Digest
	for _, r := range list {
		if d, ok := r.Blob(); ok {
			if _, seen := contents[d]; !seen {
				parts = append(parts, d)
			}
			contents[d] = r
			named = append(named, d)
		}
	}
	err := db.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := lockBlobs(ctx, tx, t.RepositoryID, named, contents); err != nil {
			return err
		}
		if err := makeWay(ctx, tx, t, shelf, e); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, `
			INSERT INTO entries (repository_id, `+entryColumns+`, token_id)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18)
			ON CONFLICT DO NOTHING`,
			t.RepositoryID,
			shelf,
			e.Key[:],
			optional(e.EarlyKey),
			e.Task,
			e.Listing[:],
			optional(e.Log),
			e.Ingredients[:],
			optional(e.Reports),
			e.Seconds,
			e.Bytes,
			append([]string{}, e.CheckoutPaths...),
			t.Name,
			e.MadeBy.Host,
			e.MadeBy.Place,
			e.MadeBy.Run,
			e.MadeBy.At,
			t.ID,
		)
		if err != nil {
			return err
		}
		if err := fulfilClaim(ctx, tx, t.RepositoryID, shelf, e.Key); err != nil {
			return err
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return diverged(ctx, tx, t, shelf, e, &filed)
		}
		filed.Created = true
		if _, err := tx.ExecContext(ctx, `
			INSERT INTO listing_blobs SELECT $1, $2, unnest($3::bytea[]) ON CONFLICT DO NOTHING`,
			t.RepositoryID, e.Listing[:], digests(parts)); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `
			INSERT INTO ingredient_blobs SELECT $1, $2, unnest($3::bytea[]) ON CONFLICT DO NOTHING`,
			t.RepositoryID, e.Ingredients[:], digests(e.Refs))
		return err
	})
	return filed, err
}

func lockBlobs(
	ctx context.Context,
	tx *sqlx.Tx,
	repository int64,
	list []digest.Digest,
	contents map[digest.Digest]listing.Row,
) error {
	var rows []struct {
		Blob
		Due bool `db:"due"`
	}
	if err := tx.SelectContext(ctx, &rows, `
		SELECT b.digest, b.object, b.size, b.marked_at, b.leased_until < now() + interval '10 minutes' AS due
		FROM `+named("FOR UPDATE"), repository, digests(list)); err != nil {
		return err
	}
	due := false
	have := map[digest.Digest]bool{}
	for _, b := range rows {
		d := asDigest(b.Digest)
		have[d] = b.MarkedForDeletion == nil
		due = due || b.Due
		if r, ok := contents[d]; ok && r.Size != b.Size {
			return SizeError{r.Path, r.Size, b.Size}
		}
	}
	var lack []digest.Digest
	for _, d := range list {
		if ok, seen := have[d]; !ok {
			if !seen || !slices.Contains(lack, d) {
				lack = append(lack, d)
			}
		}
	}
	if len(lack) > 0 {
		return MissingError{lack}
	}
	if !due {
		return nil
	}
	// A running lease keeps the cleanup, which may be waiting for these rows,
	// from marking what the entry is about to name.
	_, err := tx.ExecContext(ctx, `
		UPDATE blobs SET leased_until = now() + interval '1 hour'
		WHERE repository_id = $1 AND digest = ANY($2) AND leased_until < now() + interval '10 minutes'`, repository, digests(list))
	return err
}

func diverged(ctx context.Context, tx *sqlx.Tx, t Token, shelf string, e protocol.Entry, filed *protocol.Filed) error {
	var first []byte
	if err := tx.GetContext(ctx, &first, `
		SELECT listing FROM entries WHERE repository_id = $1 AND shelf = $2 AND key = $3`, t.RepositoryID, shelf, e.Key[:]); err != nil {
		return err
	}
	filed.Listing = asDigest(first)
	if filed.Listing == e.Listing {
		return nil
	}
	filed.Diverged = true
	_, err := tx.ExecContext(ctx, `
		INSERT INTO divergences (repository_id, shelf, key, listing, made_name, made_host, made_run)
		VALUES ($1, $2, $3, $4, $5, $6, $7)`, t.RepositoryID, shelf, e.Key[:], e.Listing[:], t.Name, e.MadeBy.Host, e.MadeBy.Run)
	return err
}
