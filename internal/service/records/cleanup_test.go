package records_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// fixture is a repository with stored objects that it keeps track of.
type fixture struct {
	t         *testing.T
	db        *records.DB
	ci        records.Token
	mu        sync.Mutex
	objects   map[string]bool
	retention records.Retention
}

func newFixture(t *testing.T) *fixture {
	db := open(t)
	return &fixture{
		t: t, db: db, ci: token(t, db, "r", "ci", "trusted", "trusted"), objects: map[string]bool{},
		retention: records.Retention{Days: 30, RunDays: 100, DeletionDelay: 48 * time.Hour},
	}
}

func (s *fixture) store(object, text string) digest.Digest {
	s.t.Helper()
	d := digest.Of([]byte(text))
	s.mu.Lock()
	s.objects[object] = true
	s.mu.Unlock()
	stored(s.t, s.db, s.ci, d, object, int64(len(text)))
	return d
}

// file stores an entry with one output, a log and a part of its ingredients.
func (s *fixture) file(key, output string) protocol.Entry {
	s.t.Helper()
	e := protocol.Entry{
		Key: digest.Of([]byte(key)), Task: "build@a", Listing: s.store("listing-"+key, "listing "+key), Log: s.store("log-"+key, "log "+key),
		Ingredients: s.store("ingredients-"+key, "ingredients "+key), Refs: []digest.Digest{s.store("part-"+key, "part "+key)},
		Bytes: int64(len(output)), MadeBy: protocol.Maker{At: time.Now()},
	}
	d := s.store("output-"+key, output)
	list := listing.List{{Path: "out", Kind: listing.File, Size: int64(len(output)), Digest: d}}
	if _, err := s.db.File(context.Background(), s.ci, "trusted", e, list); err != nil {
		s.t.Fatal(err)
	}
	return e
}

func (s *fixture) exec(query string, args ...any) {
	s.t.Helper()
	if _, err := s.db.Exec(query, args...); err != nil {
		s.t.Fatal(err)
	}
}

func (s *fixture) cleanup() records.Cleanup {
	s.t.Helper()
	got, mine, err := s.db.Cleanup(context.Background(), s.retention, func(_ context.Context, object string) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.objects, object)
		return nil
	})
	if err != nil || !mine {
		s.t.Fatal(mine, err)
	}
	return got
}

// later makes everything older by so many days.
func (s *fixture) later(days int) {
	s.exec(`UPDATE blobs SET leased_until = leased_until - make_interval(days => $1), marked_at = marked_at - make_interval(days => $1)`, days)
	s.exec(`UPDATE entries SET last_used = last_used - $1::integer`, days)
	s.exec(`UPDATE orphaned_objects SET delete_after = delete_after - make_interval(days => $1)`, days)
}

func (s *fixture) has(object string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.objects[object]
}

func TestReferencedBlobsAreNeverDeleted(t *testing.T) {
	s := newFixture(t)
	used := s.file("a", "the output of a")
	s.file("b", "the output of b")
	stray := s.store("stray", "nobody names this")
	if got := s.cleanup(); got != (records.Cleanup{}) {
		t.Errorf("while all of it is leased: %+v", got)
	}
	s.later(20)
	if got := s.cleanup(); got.Marked != 1 || got.Deleted != 0 || got.Entries != 0 {
		t.Errorf("once leases are over: %+v", got)
	}
	if lack, err := s.db.Missing(context.Background(), s.ci.RepositoryID, []digest.Digest{stray}); err != nil || len(lack) != 1 {
		t.Errorf("a blob marked for deletion is not missing: %v", err)
	}
	if !s.has("stray") {
		t.Error("it was deleted at once")
	}
	s.later(3)
	if got := s.cleanup(); got.Deleted != 1 || s.has("stray") {
		t.Errorf("after two days: %+v", got)
	}
	if err := s.db.NoteUse(context.Background(), []records.Used{{Repository: s.ci.RepositoryID, Shelf: "trusted", Key: used.Key}}); err != nil {
		t.Fatal(err)
	}
	s.later(10)
	if got := s.cleanup(); got.Entries != 1 || got.Marked != 5 {
		t.Errorf("once one was used for long by nobody: %+v", got)
	}
	s.later(3)
	s.cleanup()
	for _, part := range []string{"listing", "log", "ingredients", "part", "output"} {
		if !s.has(part+"-a") || s.has(part+"-b") {
			t.Errorf("%s: of the entry that is used %v, of the other %v", part, s.has(part+"-a"), s.has(part+"-b"))
		}
	}
}

func TestAMarkedBlobIsUploadedAsAnotherObject(t *testing.T) {
	s := newFixture(t)
	s.store("first", "chart")
	s.later(2)
	s.cleanup()
	s.store("second", "chart")
	s.later(3)
	s.exec(`UPDATE blobs SET leased_until = now() + interval '1 day'`)
	s.cleanup()
	if s.has("first") || !s.has("second") {
		t.Errorf("the first object is there: %v, the second: %v", s.has("first"), s.has("second"))
	}
}

func TestAnUnfinishedUploadIsDeleted(t *testing.T) {
	s := newFixture(t)
	ctx := context.Background()
	s.objects["half"] = true
	if err := s.db.Announce(ctx, s.ci.RepositoryID, records.Stored{Object: "half"}); err != nil {
		t.Fatal(err)
	}
	s.cleanup()
	if !s.has("half") {
		t.Error("it was removed while it was being sent")
	}
	s.later(2)
	s.cleanup()
	if s.has("half") {
		t.Error("it is still there")
	}
	// Its end comes too late, and the answer says so.
	err := s.db.PutBlobs(ctx, s.ci.RepositoryID, []records.Stored{{Digest: digest.Of([]byte("x")), Object: "half", Size: 1}})
	if !errors.Is(err, records.ErrTooLate) {
		t.Errorf("%v", err)
	}
}

func TestAQuotaEvictsTheLeastRecentlyUsed(t *testing.T) {
	s := newFixture(t)
	for i, name := range []string{"old", "middle", "new"} {
		e := s.file(name, fmt.Sprintf("%0300d", i))
		s.exec(`UPDATE entries SET last_used = current_date - $1::integer WHERE key = $2`, 9-3*i, e.Key[:])
	}
	s.retention.Quota = 17_500 // each has five blobs, each of which counts a kilobyte more
	if got := s.cleanup(); got.Entries != 1 {
		t.Errorf("%+v", got)
	}
	var keys []string
	if err := s.db.Select(&keys, `SELECT encode(key, 'hex') FROM entries`); err != nil || len(keys) != 2 || slices.Contains(keys, digest.Of([]byte("old")).String()) {
		t.Errorf("%v, %v", keys, err)
	}
	if err := s.db.SetRetention(context.Background(), "r", 100000, -1); err != nil {
		t.Fatal(err)
	}
	if got := s.cleanup(); got.Entries != 0 {
		t.Errorf("the repository's own quota does not go first: %+v", got)
	}
	if err := s.db.SetRetention(context.Background(), "none", 1, 1); !errors.Is(err, records.ErrNotExist) {
		t.Errorf("%v", err)
	}
}

// Entries are filed and blobs sent while the cleanup runs and time passes
// quickly: everything acknowledged has all its objects.
func TestCleaningUpWhileFilingLosesNothing(t *testing.T) {
	s := newFixture(t)
	ctx := context.Background()
	s.retention.DeletionDelay = 0
	stop := make(chan struct{})
	var cleaning, filing sync.WaitGroup
	passes := 0
	cleaning.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				s.exec(`UPDATE blobs SET leased_until = leased_until - interval '1 day' FROM (
					SELECT digest FROM blobs FOR UPDATE SKIP LOCKED) u WHERE blobs.digest = u.digest`)
				s.cleanup()
				passes++
			}
		}
	})
	var mu sync.Mutex
	filed := map[digest.Digest][]digest.Digest{} // blobs by listing
	refused := 0
	for w := range 6 {
		filing.Go(func() {
			for i := range 40 {
				name := fmt.Sprintf("%d-%d", w, i)
				shared := fmt.Sprintf("shared %d", i%5)
				e := protocol.Entry{Key: digest.Of([]byte(name)), Task: "t", MadeBy: protocol.Maker{At: time.Now()}}
				put := func(text string) digest.Digest {
					d := digest.Of([]byte(text))
					object := text + "/" + name
					s.mu.Lock()
					s.objects[object] = true
					s.mu.Unlock()
					if err := s.db.Announce(ctx, s.ci.RepositoryID, records.Stored{Object: object}); err != nil {
						t.Error(err)
					}
					if err := s.db.PutBlobs(ctx, s.ci.RepositoryID, []records.Stored{{Digest: d, Object: object, Size: int64(len(text))}}); err != nil {
						t.Error(err)
					}
					return d
				}
				e.Listing, e.Ingredients = put("listing "+name), put("ingredients "+name)
				out := put(shared)
				_, err := s.db.File(ctx, s.ci, "trusted", e, listing.List{{Path: "x", Kind: listing.File, Size: int64(len(shared)), Digest: out}})
				var lack records.MissingError
				mu.Lock()
				switch {
				case errors.As(err, &lack): // the test cut the lease short: send again, as a client would
					refused++
				case err != nil:
					t.Error(err)
				default:
					filed[e.Listing] = []digest.Digest{e.Listing, e.Ingredients, out}
				}
				mu.Unlock()
			}
		})
	}
	filing.Wait()
	close(stop)
	cleaning.Wait()
	s.cleanup()
	for _, named := range filed {
		have, err := s.db.Blobs(ctx, s.ci.RepositoryID, named)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range named {
			if b, ok := have[d]; !ok || !s.has(b.Object) {
				t.Errorf("blob %s of a filed entry: known %v, object %q there %v", d.Short(), ok, b.Object, s.has(b.Object))
			}
		}
	}
	t.Logf("%d entries filed, %d refused, %d passes", len(filed), refused, passes)
	if len(filed) < 100 || passes < 3 {
		t.Errorf("only %d entries were filed, in %d passes", len(filed), passes)
	}
}

func TestAChangeOfRetentionNamesWhatChanges(t *testing.T) {
	for _, c := range []struct {
		quota int64
		days  int
		want  string
	}{{5000, 30, "quota 5000 bytes; 30 days"}, {-1, 1, "1 day"}, {0, -1, "the usual quota"}, {-1, 0, "the usual time"}} {
		if got := records.RetentionChange(c.quota, c.days); got != c.want {
			t.Errorf("%d, %d: %q, want %q", c.quota, c.days, got, c.want)
		}
	}
}
