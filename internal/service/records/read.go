package records

import (
	"context"

	"github.com/jackc/pgx/v5/stdlib"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// readColumns are what readEntries reads. Few entries have paths of a checkout, and an empty
// array takes longer to read than none.
const readColumns = `shelf, key, early_key, task, listing, log, ingredients, reports, seconds, bytes, nullif(checkout_paths, '{}'),
	made_name, made_host, made_place, made_run, made_at`

// readEntries reads rows of readColumns, into the room if that is enough, without database/sql,
// whose conversions would take most of the time: a lookup reads thousands.
func (db *DB) readEntries(ctx context.Context, room []protocol.Entry, query string, args ...any) (out []protocol.Entry, err error) {
	conn, err := db.Connx(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	err = conn.Raw(func(driver any) error {
		rows, err := driver.(*stdlib.Conn).Conn().Query(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		out = room
		var e protocol.Entry
		to := targets(&e)
		for rows.Next() {
			e.CheckoutPaths = nil // the others are not shared with the row before
			if err := rows.Scan(to...); err != nil {
				return err
			}
			e.MadeBy.At = e.MadeBy.At.UTC()
			out = append(out, e)
		}
		return rows.Err()
	})
	return out, err
}

// targets are where the columns of a row go.
func targets(e *protocol.Entry) []any {
	known := words{}
	word := func(to *string) *word { return &word{known, to} }
	return []any{
		word(&e.Shelf), (*readDigest)(&e.Key), (*readDigest)(&e.EarlyKey), &e.Task, (*readDigest)(&e.Listing), (*readDigest)(&e.Log),
		(*readDigest)(&e.Ingredients), (*readDigest)(&e.Reports), &e.Seconds, &e.Bytes, &e.CheckoutPaths,
		word(&e.MadeBy.Name), word(&e.MadeBy.Host), word(&e.MadeBy.Place), word(&e.MadeBy.Run), &e.MadeBy.At,
	}
}

// readDigest is a digest that the driver reads in place.
type readDigest digest.Digest

// ScanBytes takes the bytes of a digest, or none.
func (d *readDigest) ScanBytes(b []byte) error {
	*d = readDigest(asDigest(b))
	return nil
}

// words are texts that many rows share: shelves, names, places.
type words map[string]string

type word struct {
	known words
	to    *string
}

// ScanBytes takes a text.
func (w *word) ScanBytes(b []byte) error {
	text, ok := w.known[string(b)]
	if !ok {
		text = string(b)
		w.known[text] = text
	}
	*w.to = text
	return nil
}
