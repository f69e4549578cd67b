package records

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
)

// lease is how long a blob is protected from cleanup after it was uploaded or
// asked for. It is renewed when less than leaseLeft is left of it, so that asking
// again at once changes no row.
const (
	lease     = "25 hours"
	leaseLeft = "24 hours"
)

// Blob is a stored blob.
type Blob struct {
	Digest            []byte     `db:"digest"`
	Object            string     `db:"object"`
	Position          int64      `db:"position"` // of its frame in a pack
	Packed            int64      `db:"packed"`   // bytes of the frame; 0: the object is the blob itself
	Size              int64      `db:"size"`
	Owner             string     `db:"owner"` // the shelf, or the pattern of shelves, of who sent it
	MarkedForDeletion *time.Time `db:"marked_at"`
}

// named returns the FROM clause of rows b of blobs: those of repository $1 with the digests $2,
// in the order of their digests, in which they are locked everywhere. Each is looked up on its
// own. Left to itself, the planner reads all of a repository that it takes to be small, as it
// does with each new one, and with plans that it made when the table was new.
func named(lock string) string {
	return `(SELECT DISTINCT d FROM unnest($2::bytea[]) AS w (d) ORDER BY d) w CROSS JOIN LATERAL (
		SELECT * FROM blobs WHERE repository_id = $1 AND digest = w.d OFFSET 0 ` + lock + `) b `
}

// Missing returns the digests that the repository does not have, and leases the
// others.
func (db *DB) Missing(ctx context.Context, repository int64, list []digest.Digest) ([]digest.Digest, error) {
	var rows []struct {
		Digest []byte `db:"digest"`
		Leased bool   `db:"leased"`
	}
	err := db.SelectContext(ctx, &rows, `
		SELECT b.digest, b.leased_until > now() + interval '`+leaseLeft+`' AS leased FROM `+named("")+`
		WHERE b.marked_at IS NULL`, repository, digests(list))
	if err != nil {
		return nil, err
	}
	there := map[digest.Digest]bool{}
	var due [][]byte
	for _, b := range rows {
		there[asDigest(b.Digest)] = b.Leased
		if !b.Leased {
			due = append(due, b.Digest)
		}
	}
	if len(due) > 0 {
		var renewed [][]byte
		if err := db.SelectContext(ctx, &renewed, `
			UPDATE blobs SET leased_until = now() + interval '`+lease+`'
			WHERE repository_id = $1 AND marked_at IS NULL AND digest IN (SELECT b.digest FROM `+named("FOR UPDATE")+`)
			RETURNING digest`, repository, due); err != nil {
			return nil, err
		}
		for _, b := range renewed {
			there[asDigest(b)] = true
		}
	}
	out := []digest.Digest{}
	for _, d := range list {
		if !there[d] {
			there[d] = true
			out = append(out, d)
		}
	}
	return out, nil
}

// Blob returns a blob that is not marked for deletion.
func (db *DB) Blob(ctx context.Context, repository int64, d digest.Digest) (Blob, error) {
	var b Blob
	err := db.GetContext(ctx, &b, `
		SELECT digest, object, position, packed, size, marked_at FROM blobs
		WHERE repository_id = $1 AND digest = $2 AND marked_at IS NULL`, repository, d[:])
	return b, missing(err, "blob "+d.Short())
}

// Blobs returns the given blobs that exist and are not marked for deletion.
func (db *DB) Blobs(ctx context.Context, repository int64, list []digest.Digest) (map[digest.Digest]Blob, error) {
	var rows []Blob
	err := db.SelectContext(ctx, &rows, `
		SELECT b.digest, b.object, b.position, b.packed, b.size, b.owner, b.marked_at FROM `+named("")+`
		WHERE b.marked_at IS NULL`, repository, digests(list))
	out := map[digest.Digest]Blob{}
	for _, b := range rows {
		out[asDigest(b.Digest)] = b
	}
	return out, err
}

// Stored is a blob and the stored object that contains it.
type Stored struct {
	Digest   digest.Digest
	Object   string
	Position int64 // of its frame, if the object is a pack
	Packed   int64 // bytes of the frame; 0: the object is the blob itself
	Size     int64
	Owner    string // the shelf, or the pattern of shelves, that is charged
}

// columns are the fields of stored blobs, for unnest.
type columns struct {
	digests                 [][]byte
	objects, owners         []string
	positions, packed, size []int64
	distinct                []string // objects, each once
	packs                   []string
	packBytes, packContents []int64
}

func columnsOf(list []Stored) (c columns) {
	bytes, contents := map[string]int64{}, map[string]int64{}
	type frame struct {
		object   string
		position int64
	}
	frames := map[frame]bool{} // one may contain several blobs
	for i := range list {
		s := &list[i]
		c.digests, c.objects, c.owners = append(c.digests, s.Digest[:]), append(c.objects, s.Object), append(c.owners, s.Owner)
		c.positions, c.packed, c.size = append(c.positions, s.Position), append(c.packed, s.Packed), append(c.size, s.Size)
		if _, ok := bytes[s.Object]; !ok {
			c.distinct = append(c.distinct, s.Object)
		}
		if f := (frame{s.Object, s.Position}); !frames[f] {
			frames[f] = true
			bytes[s.Object] += s.Packed
		}
		contents[s.Object] += s.Size + perMember
	}
	for _, o := range c.distinct {
		if bytes[o] > 0 {
			c.packs, c.packBytes = append(c.packs, o), append(c.packBytes, bytes[o])
			c.packContents = append(c.packContents, contents[o])
		}
	}
	return c
}

// ErrTooLate is returned for objects that were not announced, or so long ago
// that the cleanup has deleted them.
var ErrTooLate = errors.New("the upload took too long: send it again")

// PutBlobs records stored objects, and leases their blobs. If another object
// already contains the same blob, that one stays, and the new one is left to
// the cleanup; so is an object marked for deletion that a new one replaces.
func (db *DB) PutBlobs(ctx context.Context, repository int64, list []Stored) error {
	slices.SortFunc(list, func(a, b Stored) int { return bytes.Compare(a.Digest[:], b.Digest[:]) })
	list = slices.CompactFunc(list, func(a, b Stored) bool { return a.Digest == b.Digest })
	c := columnsOf(list)
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := c.confirm(ctx, tx, repository); err != nil {
			return err
		}
		if err := orphanMarked(ctx, tx, repository, c.digests); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			INSERT INTO blobs (repository_id, digest, object, position, packed, size, owner, leased_until)
			SELECT $1, d, o, p, f, s, w, now() + interval '`+lease+`'
			FROM unnest($2::bytea[], $3::text[], $4::bigint[], $5::bigint[], $6::bigint[], $7::text[]) AS n (d, o, p, f, s, w)
			ORDER BY d
			ON CONFLICT (repository_id, digest) DO UPDATE SET
				object = CASE WHEN blobs.marked_at IS NULL THEN blobs.object ELSE excluded.object END,
				position = CASE WHEN blobs.marked_at IS NULL THEN blobs.position ELSE excluded.position END,
				packed = CASE WHEN blobs.marked_at IS NULL THEN blobs.packed ELSE excluded.packed END,
				owner = CASE WHEN blobs.marked_at IS NULL THEN blobs.owner ELSE excluded.owner END,
				leased_until = greatest(blobs.leased_until, excluded.leased_until), marked_at = NULL`,
			repository, c.digests, c.objects, c.positions, c.packed, c.size, c.owners); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
			DELETE FROM orphaned_objects WHERE object = ANY($3) AND object IN (SELECT b.object FROM `+named("")+`)`,
			repository, c.digests, c.distinct); err != nil {
			return err
		}
		// What another upload was faster with is deleted by the next cleanup.
		_, err := tx.ExecContext(ctx, `UPDATE orphaned_objects SET delete_after = now() WHERE object = ANY($1)`, c.distinct)
		return err
	})
}

// orphanMarked locks the rows of digests, and leaves the objects of those that are marked for
// deletion to the cleanup: another object is about to take their place.
func orphanMarked(ctx context.Context, tx *sqlx.Tx, repository int64, list [][]byte) error {
	var marked [][]byte
	if err := tx.SelectContext(ctx, &marked, `
		SELECT b.digest FROM `+named("FOR UPDATE")+` WHERE b.marked_at IS NOT NULL`, repository, list); err != nil || len(marked) == 0 {
		return err
	}
	_, err := tx.ExecContext(ctx, `
		INSERT INTO orphaned_objects (object, repository_id, delete_after, size)
		SELECT b.object, b.repository_id, now(), sum(b.size) FROM `+named("")+` GROUP BY b.object, b.repository_id
		ON CONFLICT (object) DO UPDATE SET delete_after = excluded.delete_after`, repository, marked)
	return err
}

// confirm checks that the objects were announced, locks that, and records which are packs.
func (c columns) confirm(ctx context.Context, tx *sqlx.Tx, repository int64) error {
	var announced []string
	if err := tx.SelectContext(ctx, &announced, `
		SELECT object FROM orphaned_objects WHERE object = ANY($1) ORDER BY object FOR UPDATE`, c.distinct); err != nil {
		return err
	}
	if len(announced) != len(c.distinct) {
		return ErrTooLate
	}
	_, err := tx.ExecContext(ctx, `
		INSERT INTO packs (object, repository_id, bytes, contents)
		SELECT o, $1, b, c FROM unnest($2::text[], $3::bigint[], $4::bigint[]) AS n (o, b, c)
		ON CONFLICT DO NOTHING`, repository, c.packs, c.packBytes, c.packContents)
	return err
}

// EndLeases ends the protection of blobs that are no longer needed for
// themselves. Those that something references stay.
func (db *DB) EndLeases(ctx context.Context, repository int64, list []digest.Digest) error {
	_, err := db.ExecContext(ctx, `
		UPDATE blobs SET leased_until = now() WHERE repository_id = $1 AND digest IN (
			SELECT b.digest FROM `+named("FOR UPDATE")+`)`, repository, digests(list))
	return err
}
