package records_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

func open(t *testing.T) *records.DB {
	t.Helper()
	db, err := records.Open(context.Background(), trial.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func token(t *testing.T, db *records.DB, repo, name, puts string, takes ...string) records.Token {
	t.Helper()
	secret, err := db.NewToken(context.Background(), records.Token{Repository: repo, Name: name, WritesTo: puts, ReadsFrom: takes})
	if err != nil {
		t.Fatal(err)
	}
	tok, err := db.FindToken(context.Background(), secret)
	if err != nil {
		t.Fatal(err)
	}
	return tok
}

// stored records an object that contains a blob.
func stored(t *testing.T, db *records.DB, tok records.Token, d digest.Digest, object string, size int64) {
	t.Helper()
	ctx := context.Background()
	err := db.Announce(ctx, tok.RepositoryID, records.Stored{Object: object})
	if err == nil {
		err = db.PutBlobs(ctx, tok.RepositoryID, []records.Stored{{Digest: d, Object: object, Size: size}})
	}
	if err != nil {
		t.Fatal(err)
	}
}

func put(t *testing.T, db *records.DB, tok records.Token, text string) digest.Digest {
	t.Helper()
	d := digest.Of([]byte(text))
	stored(t, db, tok, d, "object-"+text, int64(len(text)))
	return d
}

func file(t *testing.T, db *records.DB, tok records.Token, shelf, key, early string) protocol.Entry {
	t.Helper()
	e := protocol.Entry{
		Key: digest.Of([]byte(key)), EarlyKey: digest.Of([]byte(early)), Task: "build@a", Listing: put(t, db, tok, "listing"),
		Ingredients: put(t, db, tok, "ingredients"), MadeBy: protocol.Maker{At: time.Now()},
	}
	if _, err := db.File(context.Background(), tok, shelf, e, nil); err != nil {
		t.Fatal(err)
	}
	return e
}

func TestShelvesAreAskedInTheirOrder(t *testing.T) {
	db, ctx := open(t), context.Background()
	ci := token(t, db, "r", "ci", "trusted", "trusted")
	brenna := token(t, db, "r", "brenna", "person/brenna", "person/brenna", "trusted")
	branches := token(t, db, "r", "pr", "branch/*", "branch/*", "trusted")
	stranger := token(t, db, "other", "x", "trusted", "trusted")
	both := file(t, db, ci, "trusted", "both", "early")
	file(t, db, brenna, "person/brenna", "both", "early")
	only := file(t, db, branches, "branch/fix_1", "only", "other")
	for _, c := range []struct {
		who  records.Token
		key  digest.Digest
		want string
	}{
		{ci, both.Key, "trusted"}, {brenna, both.Key, "person/brenna"}, {branches, both.Key, "trusted"},
		{branches, only.Key, "branch/fix_1"}, {ci, only.Key, ""}, {brenna, only.Key, ""}, {stranger, both.Key, ""},
	} {
		got, err := db.Lookup(ctx, c.who, []digest.Digest{c.key}, nil)
		if err != nil || (c.want == "") != (len(got) == 0) || (c.want != "" && (len(got) != 1 || got[0].Shelf != c.want)) {
			t.Errorf("%s asks for %s: %v, %v; want it from %q", c.who.Name, c.key.Short(), got, err, c.want)
		}
	}
	for i := range 6 {
		file(t, db, ci, "trusted", fmt.Sprint("many", i), "same")
	}
	got, err := db.Lookup(ctx, ci, nil, []digest.Digest{digest.Of([]byte("same"))})
	if err != nil || len(got) != protocol.EarlyAnswers || got[0].Key != digest.Of([]byte("many5")) {
		t.Errorf("an early key brought %d, %v", len(got), err)
	}
}

func TestBlobsBelongToOneRepository(t *testing.T) {
	db, ctx := open(t), context.Background()
	a, b := token(t, db, "a", "x", "trusted", "trusted"), token(t, db, "b", "x", "trusted", "trusted")
	d := put(t, db, a, "chart")
	if lack, err := db.Missing(ctx, a.RepositoryID, []digest.Digest{d, d}); err != nil || len(lack) != 0 {
		t.Errorf("%v, %v", lack, err)
	}
	if lack, err := db.Missing(ctx, b.RepositoryID, []digest.Digest{d, d}); err != nil || len(lack) != 1 {
		t.Errorf("from another repository: %v, %v", lack, err)
	}
	if _, err := db.Blob(ctx, b.RepositoryID, d); !errors.Is(err, records.ErrNotExist) {
		t.Errorf("from another repository: %v", err)
	}
}

func TestAMarkedBlobIsMissingAndIsStoredAgain(t *testing.T) {
	db, ctx := open(t), context.Background()
	ci := token(t, db, "r", "ci", "trusted", "trusted")
	d := put(t, db, ci, "chart")
	stored(t, db, ci, d, "second", 5)
	if b, err := db.Blob(ctx, ci.RepositoryID, d); err != nil || b.Object != "object-chart" {
		t.Errorf("a second object took the place of the first: %q, %v", b.Object, err)
	}
	if _, err := db.Exec("UPDATE blobs SET marked_at = now() WHERE digest = $1", d[:]); err != nil {
		t.Fatal(err)
	}
	if lack, err := db.Missing(ctx, ci.RepositoryID, []digest.Digest{d}); err != nil || len(lack) != 1 {
		t.Errorf("marked for deletion, but not missing: %v, %v", lack, err)
	}
	e := protocol.Entry{Key: digest.Of([]byte("k")), Task: "t", Listing: d, Ingredients: put(t, db, ci, "i"), MadeBy: protocol.Maker{At: time.Now()}}
	var lack records.MissingError
	if _, err := db.File(ctx, ci, "trusted", e, nil); !errors.As(err, &lack) || len(lack.Digests) != 1 || lack.Digests[0] != d {
		t.Errorf("filed on a blob marked for deletion: %v", err)
	}
	stored(t, db, ci, d, "third", 5)
	if b, err := db.Blob(ctx, ci.RepositoryID, d); err != nil || b.Object != "third" {
		t.Errorf("it names %q, %v", b.Object, err)
	}
}

// Many clients file entries that share blobs, in different orders, at the same
// time: each gets an answer, and one listing stays.
func TestConcurrentFilingNeitherDeadlocksNorDuplicates(t *testing.T) {
	db, ctx := open(t), context.Background()
	ci := token(t, db, "r", "ci", "trusted", "trusted")
	var list listing.List
	for i := range 20 {
		text := fmt.Sprintf("blob-%02d", i)
		list = append(list, listing.Row{Kind: listing.File, Size: int64(len(text)), Digest: put(t, db, ci, text), Path: text})
	}
	l, in := put(t, db, ci, "listing"), put(t, db, ci, "ingredients")
	created := make(chan bool, 64)
	var wg sync.WaitGroup
	for i := range 16 {
		wg.Go(func() {
			mine := append(listing.List{}, list...)
			for j := range mine { // each in another order
				k := (j*7 + i) % len(mine)
				mine[j], mine[k] = mine[k], mine[j]
			}
			for _, key := range []string{"one", "two"} {
				e := protocol.Entry{Key: digest.Of([]byte(key)), Task: "t", Listing: l, Ingredients: in, MadeBy: protocol.Maker{At: time.Now()}}
				filed, err := db.File(ctx, ci, "trusted", e, mine)
				if err != nil || filed.Diverged {
					t.Errorf("%v, %+v", err, filed)
				}
				created <- filed.Created
			}
		})
	}
	wg.Wait()
	close(created)
	n := 0
	for c := range created {
		if c {
			n++
		}
	}
	if n != 2 {
		t.Errorf("%d of two entries were created", n)
	}
}

func TestOpeningTwiceIsHarmless(t *testing.T) {
	url := trial.Database(t)
	for range 2 {
		db, err := records.Open(context.Background(), url)
		if err != nil {
			t.Fatal(err)
		}
		db.Close()
	}
	if _, err := records.Open(context.Background(), "postgres://127.0.0.1:1/none"); err == nil {
		t.Error("a database that is not there was opened")
	}
}

// Arrays are scanned by many goroutines at the same time, in the race detector's sight.
func TestArraysAreScannedConcurrently(t *testing.T) {
	var wg sync.WaitGroup
	for range 16 {
		wg.Go(func() {
			var numbers records.Array[int64]
			if err := numbers.Scan("{1,2,3}"); err != nil || len(numbers) != 3 {
				t.Error(numbers, err)
			}
			var names records.Array[string]
			if err := names.Scan(`{tide,"a b"}`); err != nil || len(names) != 2 || names[1] != "a b" {
				t.Error(names, err)
			}
		})
	}
	wg.Wait()
}

// A plan that was made when the tables were new must not read all of them later.
func TestBlobsAndEntriesAreFoundWithoutReadingAllOfARepository(t *testing.T) {
	db := open(t)
	tok := token(t, db, "test", "ci", records.Trusted, records.Trusted)
	db.SetMaxOpenConns(1) // its plans, and its statistics
	exec := func(q string, args ...any) {
		t.Helper()
		if _, err := db.Exec(q, args...); err != nil {
			t.Fatal(err)
		}
	}
	for _, table := range []string{"blobs", "entries", "claims"} {
		exec(`ALTER TABLE ` + table + ` SET (autovacuum_enabled = false)`)
	}
	ask := func(n int) {
		t.Helper()
		e := file(t, db, tok, records.Trusted, fmt.Sprint("key ", n), fmt.Sprint("early ", n))
		d := e.Listing
		if have, err := db.Blobs(t.Context(), tok.RepositoryID, []digest.Digest{d}); err != nil || len(have) != 1 {
			t.Fatal(have, err)
		}
		if missing, err := db.Missing(t.Context(), tok.RepositoryID, []digest.Digest{d}); err != nil || len(missing) != 0 {
			t.Fatal(missing, err)
		}
		for _, by := range [][2][]digest.Digest{{{e.Key}, nil}, {nil, {e.EarlyKey}}} {
			if found, err := db.Lookup(t.Context(), tok, by[0], by[1]); err != nil || len(found) != 1 {
				t.Fatal(found, err)
			}
		}
		answer, err := db.Claim(t.Context(), tok, protocol.Claim{
			Key: digest.Of(fmt.Append(nil, "claimed ", n)), Shelf: records.Trusted, Run: "r", Task: "build@a", Seconds: 60,
		}, time.Minute)
		if err != nil || answer.Granted == 0 {
			t.Fatal(answer, err)
		}
		if err := db.EndClaim(t.Context(), tok, answer.Granted, protocol.ClaimFailed, time.Minute); err != nil {
			t.Fatal(err)
		}
	}
	for n := range 20 {
		ask(n)
	}
	exec(`INSERT INTO blobs (repository_id, digest, object, size, leased_until)
		SELECT $1, sha256(n::text::bytea), 'many', 1, now() FROM generate_series(1, 5000) AS n`, tok.RepositoryID)
	exec(`INSERT INTO entries SELECT x.* FROM (SELECT * FROM entries LIMIT 1) e, generate_series(1, 5000) AS n,
		jsonb_populate_record(NULL::entries, to_jsonb(e) || jsonb_build_object('key', '\x' || encode(sha256(n::text::bytea), 'hex'),
			'early_key', '\x' || encode(sha256((-n)::text::bytea), 'hex'), 'task', 'build@' || n)) AS x`)
	exec(`INSERT INTO claims (repository_id, key, shelf, token_id, run_id, task, name, host, place, seconds, lease_until)
		SELECT repository_id, sha256(n::text::bytea), shelf, token_id, run_id, task, name, host, place, seconds, lease_until
		FROM (SELECT * FROM claims LIMIT 1) c, generate_series(1, 5000) AS n`)
	read := func(table string) (n int) {
		t.Helper()
		exec(`SELECT pg_stat_force_next_flush()`)
		if err := db.Get(&n, `
			SELECT seq_tup_read + greatest(coalesce(idx_tup_fetch, 0), (
				SELECT coalesce(sum(idx_tup_read), 0) FROM pg_stat_user_indexes i WHERE i.relid = t.relid))
			FROM pg_stat_user_tables t WHERE relname = $1`, table); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := map[string]int{}
	for _, table := range []string{"blobs", "entries", "claims"} {
		before[table] = read(table)
	}
	for n := range 20 {
		ask(10_000 + n)
	}
	for table, was := range before {
		if n := read(table) - was; n == 0 || n > 1000 {
			t.Errorf("%d rows of %s were read for 20 results", n, table)
		}
	}
}

// TestAStatementThatTakesLongEnds looks at what an endless statement does to a request.
func TestAStatementThatTakesLongEnds(t *testing.T) {
	t.Parallel()
	url := trial.Database(t)
	for limit, of := range map[string]func(*records.DB) *records.DB{
		"30s": func(db *records.DB) *records.DB { return db },
		"1h":  func(db *records.DB) *records.DB { return db.Patient() },
	} {
		db, err := records.Open(t.Context(), url)
		if err != nil {
			t.Fatal(err)
		}
		var got string
		if err := of(db).Get(&got, "SHOW statement_timeout"); err != nil || got != limit {
			t.Errorf("a statement may take %s, not %s; %v", got, limit, err)
		}
		db.Close()
	}
	db, err := records.Open(t.Context(), url+"&statement_timeout=50")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("SELECT pg_sleep(60)"); err == nil {
		t.Error("a statement outlives its limit")
	}
}
