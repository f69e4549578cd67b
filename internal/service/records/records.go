// Package records is the service's database: PostgreSQL through sqlx, SQL as
// SQL. Every table and every query carries the repository.
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"grayloft.example/grayloft/internal/core/digest"
)

//go:embed migrations/*.sql
var migrations embed.FS

// DB is the service's records.
type DB struct {
	*sqlx.DB
	// Finished is called in the transaction that ends a run; nil: nobody is told.
	Finished func(ctx context.Context, tx *sql.Tx, repository int64, run string) error
	url      string
	patient  *sqlx.DB // whose statements may take long
}

const (
	// statementLimit is how long one statement of a request may take.
	statementLimit = 30 * time.Second
	// longLimit is how long one statement of background work may take.
	longLimit = time.Hour
)

// Patient is the same database for background work: its statements may take an hour, those of
// requests 30 s. It has connections of its own, and is closed with db.
func (db *DB) Patient() *DB { return &DB{DB: db.patient, url: db.url} }

// Close closes all connections.
func (db *DB) Close() error { return errors.Join(db.DB.Close(), db.patient.Close()) }

// connect opens a pool of at most so many connections, whose statements have a time limit. One
// that the address states is kept.
func connect(url string, most int, limit time.Duration) (*sqlx.DB, error) {
	c, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w", err)
	}
	if c.RuntimeParams["statement_timeout"] == "" {
		c.RuntimeParams["statement_timeout"] = strconv.FormatInt(limit.Milliseconds(), 10)
	}
	db := sqlx.NewDb(stdlib.OpenDB(*c), "pgx")
	db.SetMaxOpenConns(most)
	db.SetMaxIdleConns(max(1, most/3))
	db.SetConnMaxIdleTime(5 * time.Minute)
	return db, nil
}

// URL is the address that the database was opened with.
func (db *DB) URL() string { return db.url }

// ErrNotExist is wrapped by errors about a missing row.
var ErrNotExist = errors.New("no such record")

// Open connects to the database and migrates its tables; it fails if they are
// newer than this program.
func Open(ctx context.Context, url string) (*DB, error) {
	db, err := connect(url, 24, statementLimit)
	if err != nil {
		return nil, err
	}
	patient, err := connect(url, 6, longLimit)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	opened := &DB{DB: db, url: url, patient: patient}
	if err := opened.prepare(ctx); err != nil {
		return nil, errors.Join(err, opened.Close())
	}
	return opened, nil
}

// prepare migrates the tables.
func (db *DB) prepare(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if err := db.PingContext(ctx); err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db.patient.DB, files)
	if err == nil {
		_, err = p.Up(ctx)
	}
	if err != nil {
		return fmt.Errorf("migrating the database's tables: %w", err)
	}
	return db.EnsureMonths(ctx, time.Now())
}

// Array reads a column that is an array.
type Array[T any] []T

// Scan implements [sql.Scanner].
func (a *Array[T]) Scan(src any) error { return scanArray((*[]T)(a), src) }

// texts reads a text[] column.
type texts []string

// Scan implements [sql.Scanner].
func (t *texts) Scan(src any) error {
	if text, ok := src.(string); ok && text == "{}" {
		*t = texts{}
		return nil
	}
	return scanArray((*[]string)(t), src)
}

// types know PostgreSQL's types. Making one takes longer than using it, and each is for one
// goroutine at a time: it notes the types that it has seen.
var types = sync.Pool{New: func() any { return pgtype.NewMap() }}

func scanArray(to, src any) error {
	m := types.Get().(*pgtype.Map)
	defer types.Put(m)
	return m.SQLScanner(to).Scan(src)
}

// digests passes a list of digests as bytea[].
func digests(list []digest.Digest) [][]byte {
	out := make([][]byte, len(list))
	for i := range list {
		out[i] = list[i][:]
	}
	return out
}

func optional(d digest.Digest) []byte {
	if d.IsZero() {
		return nil
	}
	return d[:]
}

func asDigest(b []byte) digest.Digest {
	if b == nil { // an absent digest is stored as null
		return digest.Digest{}
	}
	d, _ := digest.FromBytes(b)
	return d
}

func missing(err error, what string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%w: %s", ErrNotExist, what)
	}
	return err
}

func missingf(what string) error { return fmt.Errorf("%w: %s", ErrNotExist, what) }

// InTx runs f in a transaction.
func (db *DB) InTx(ctx context.Context, f func(tx *sqlx.Tx) error) error { return db.inTx(ctx, f) }

// inTx runs f in a transaction.
func (db *DB) inTx(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

const (
	runChannel   = "grayloft_runs"
	tokenChannel = "grayloft_tokens"
	cleanChannel = "grayloft_cleaned"
	logChannel   = "grayloft_logs"
	// requestChannel says that a request changed: its repository, its id and, if its
	// runners have to stop or something waits for them, a third word.
	requestChannel = "grayloft_requests"
)

var channels = []string{runChannel, tokenChannel, cleanChannel, logChannel, requestChannel}

// Listener receives what any replica changes.
type Listener interface {
	RunChanged(repository int64, run string)
	LogGrew(repository int64, run string) // of a task that runs
	TokenEnded(token int64)               // revoked, or with a new secret
	Cleaned()                             // a cleanup has ended
	RequestChanged(repository, request int64, stops bool)
}

// Listen tells a listener about changes until the context ends or the connection
// is lost.
func (db *DB) Listen(ctx context.Context, to Listener) error {
	conn, err := pgx.Connect(ctx, db.url)
	if err != nil {
		return err
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(ctx, "LISTEN "+strings.Join(channels, "; LISTEN ")); err != nil {
		return err
	}
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var id int64
		var run string
		switch n.Channel {
		case cleanChannel:
			to.Cleaned()
		case logChannel:
			if _, err := fmt.Sscanf(n.Payload, "%d %s", &id, &run); err == nil {
				to.LogGrew(id, run)
			}
		case requestChannel:
			var request int64
			var word string
			if n, _ := fmt.Sscanf(n.Payload, "%d %d %s", &id, &request, &word); n >= 2 {
				to.RequestChanged(id, request, n == 3)
			}
		case tokenChannel:
			if _, err := fmt.Sscan(n.Payload, &id); err == nil {
				to.TokenEnded(id)
			}
		default:
			if _, err := fmt.Sscanf(n.Payload, "%d %s", &id, &run); err == nil {
				to.RunChanged(id, run)
			}
		}
	}
}

// NotifyRequest tells every replica that a request changed, and whether runners have to
// stop its jobs.
func NotifyRequest(ctx context.Context, tx *sqlx.Tx, repository, request int64, stops bool) error {
	payload := fmt.Sprintf("%d %d", repository, request)
	if stops {
		payload += " stop"
	}
	_, err := tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", requestChannel, payload)
	return err
}

// Notify tells every replica that a run changed.
func Notify(ctx context.Context, tx *sqlx.Tx, repository int64, run string) error {
	_, err := tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", runChannel, fmt.Sprintf("%d %s", repository, run))
	return err
}
