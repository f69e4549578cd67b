package packs_test

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

// shelf is a service with a token, and packs in a directory.
type shelf struct {
	*trial.Service
	t     *testing.T
	token records.Token
	auth  string
	store blobs.Store
	log   logged

	mayComplain bool // the service, in its log
}

// logged is what a service has said.
type logged struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *logged) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *logged) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

func newShelf(t *testing.T) *shelf { return shelfWith(t, func(*service.Config) {}) }

func shelfWith(t *testing.T, change func(*service.Config)) *shelf {
	t.Parallel()
	s := &shelf{t: t}
	s.Service = trial.ServeWith(t, func(c *service.Config) {
		c.Log = slog.New(slog.NewTextHandler(&s.log, nil))
		change(c)
	})
	t.Cleanup(func() {
		text := s.log.String()
		if !s.mayComplain && (strings.Contains(text, "level=WARN") || strings.Contains(text, "level=ERROR")) {
			t.Errorf("the service said:\n%s", text)
		}
	})
	s.auth = s.Token(t, "ci", "trusted", "trusted")
	var err error
	if s.token, err = s.DB.FindToken(t.Context(), s.auth); err != nil {
		t.Fatal(err)
	}
	if s.store, err = blobs.OpenDir(filepath.Join(s.Config.Data, "blobs")); err != nil {
		t.Fatal(err)
	}
	return s
}

func text(i int) []byte { return bytes.Repeat(fmt.Appendf(nil, "berth %d\n", i), 50+i%100) }

// archive is a plain pack of texts.
func archive(from, to int) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := from; i < to; i++ {
		_ = w.WriteHeader(pack.Header(digest.Of(text(i)), int64(len(text(i)))))
		_, _ = w.Write(text(i))
	}
	_ = w.Close()
	return b.Bytes()
}

func (s *shelf) call(method, path string, header http.Header, body []byte) (int, []byte) {
	s.t.Helper()
	req, err := http.NewRequestWithContext(s.t.Context(), method, s.URL+"/v1/"+s.Repo+"/"+path, bytes.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header = header
	req.Header.Set("Authorization", "Bearer "+s.auth)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	answer, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, answer
}

func (s *shelf) put(from, to int) {
	s.t.Helper()
	if status, answer := s.call("POST", "packs", http.Header{"Content-Type": {protocol.TypePack}}, archive(from, to)); status != 200 {
		s.t.Fatal(status, string(answer))
	}
}

func digests(from, to int) (out []digest.Digest) {
	for i := from; i < to; i++ {
		out = append(out, digest.Of(text(i)))
	}
	return out
}

// fetch returns how many of the blobs a client gets in a pack, all of which are right.
func (s *shelf) fetch(from, to int, encoding string) (n int) {
	s.t.Helper()
	ask, _ := json.Marshal(protocol.Digests{Digests: digests(from, to)})
	status, answer := s.call("POST", "packs/fetch", http.Header{"Content-Type": {"application/json"}, "Accept-Encoding": {encoding}}, ask)
	if status != 200 {
		s.t.Fatal(status, string(answer))
	}
	var in io.Reader = bytes.NewReader(answer)
	if encoding == "zstd" {
		z, err := zstd.NewReader(in)
		if err != nil {
			s.t.Fatal(err)
		}
		defer z.Close()
		in = z
	}
	want := map[string]bool{}
	for _, d := range digests(from, to) {
		want[d.String()] = true
	}
	members := tar.NewReader(in)
	for {
		h, err := members.Next()
		if errors.Is(err, io.EOF) {
			return n
		}
		if err != nil {
			s.t.Fatal(err)
		}
		got, err := io.ReadAll(members)
		if err != nil || !want[h.Name] || digest.Of(got).String() != h.Name {
			s.t.Errorf("%s: %d bytes, %v", h.Name, len(got), err)
		}
		delete(want, h.Name)
		n++
	}
}

func (s *shelf) objects() (n int) {
	_ = filepath.WalkDir(filepath.Join(s.Config.Data, "blobs"), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			n++
		}
		return nil
	})
	return n
}

func (s *shelf) exec(query string, args ...any) {
	s.t.Helper()
	if _, err := s.DB.Exec(query, args...); err != nil {
		s.t.Fatal(err)
	}
}

func (s *shelf) cleanup(after time.Duration) {
	s.t.Helper()
	if _, mine, err := s.DB.Cleanup(s.t.Context(), records.Retention{DeletionDelay: after}, s.store.Delete); err != nil || !mine {
		s.t.Fatal(mine, err)
	}
}

func (s *shelf) compact(delay time.Duration) packs.Compacted {
	s.t.Helper()
	got, err := packs.Compactor{Records: s.DB, Store: s.store, Delay: delay}.Compact(s.t.Context())
	if err != nil {
		s.t.Fatal(err)
	}
	return got
}

func TestWhatArrivedBeforeACutStays(t *testing.T) {
	s := newShelf(t)
	whole := archive(0, 300)
	var z bytes.Buffer
	w, _ := zstd.NewWriter(&z)
	_, _ = w.Write(whole)
	_ = w.Close()
	for name, body := range map[string][]byte{"": whole[:len(whole)*2/3], "zstd": z.Bytes()[:z.Len()*2/3]} {
		header := http.Header{"Content-Type": {protocol.TypePack}}
		if name != "" {
			header.Set("Content-Encoding", name)
		}
		if status, answer := s.call("POST", "packs", header, body); status != 400 || !strings.Contains(string(answer), "cut off") {
			t.Errorf("%q: %d, %s", name, status, answer)
		}
	}
	lack, err := s.DB.Missing(t.Context(), s.token.RepositoryID, digests(0, 300))
	if err != nil || len(lack) < 50 || len(lack) > 200 {
		t.Errorf("%d are missing, %v", len(lack), err)
	}
	if n := s.fetch(0, 300, "zstd"); n != 300-len(lack) {
		t.Errorf("%d are there, and %d are missing", n, len(lack))
	}
	s.put(0, 300) // the rest
	if n := s.fetch(0, 300, "zstd"); n != 300 {
		t.Errorf("%d are there", n)
	}
}

func TestPackedBlobsAreReadInEveryWay(t *testing.T) {
	s := newShelf(t)
	s.put(0, 200)
	s.put(100, 250) // half of it is there already
	if n := s.objects(); n != 2 {
		t.Errorf("%d objects", n)
	}
	for _, encoding := range []string{"zstd", "identity"} {
		if n := s.fetch(0, 260, encoding); n != 250 {
			t.Errorf("%s: %d came", encoding, n)
		}
		if n := s.fetch(130, 135, encoding); n != 5 {
			t.Errorf("%s: %d of a few came", encoding, n)
		}
	}
	one := digest.Of(text(123)).String()
	if status, got := s.call("GET", "blobs/"+one, http.Header{}, nil); status != 200 || !bytes.Equal(got, text(123)) {
		t.Errorf("%d, %d bytes", status, len(got))
	}
	if status, got := s.call("GET", "blobs/"+one, http.Header{"Range": {"bytes=10-29"}}, nil); status != 206 ||
		!bytes.Equal(got, text(123)[10:30]) {
		t.Errorf("%d, %q", status, got)
	}
	if status, got := s.call("GET", "blobs/"+one+"?from=5&length=7", http.Header{}, nil); status != 200 ||
		!bytes.Equal(got, text(123)[5:12]) {
		t.Errorf("%d, %q", status, got)
	}
}

// framed are frames of texts, as the body of an upload.
func framed(lists ...[]pack.Blob) []byte {
	var out []byte
	for _, list := range lists {
		out = append(out, pack.Join(list)...)
	}
	return append(out, pack.End()...)
}

func blobsOf(from, to int) (out []pack.Blob) {
	for i := from; i < to; i++ {
		out = append(out, pack.Blob{Digest: digest.Of(text(i)), Text: text(i)})
	}
	return out
}

var inFrames = http.Header{"Content-Type": {protocol.TypeFrames}, "Content-Encoding": {"zstd"}}

// object returns the pack object that contains a blob, and its members.
func (s *shelf) object(i int) ([]byte, []pack.Member) {
	s.t.Helper()
	b, err := s.DB.Blob(s.t.Context(), s.token.RepositoryID, digest.Of(text(i)))
	if err != nil {
		s.t.Fatal(err)
	}
	r, err := s.store.Open(s.t.Context(), b.Object, 0, 1<<30)
	if err != nil {
		s.t.Fatal(err)
	}
	defer r.Close()
	whole, err := io.ReadAll(r)
	if err != nil {
		s.t.Fatal(err)
	}
	list, err := pack.Index(bytes.NewReader(whole))
	if err != nil {
		s.t.Fatal(err)
	}
	return whole, list
}

// A frame of an upload is stored as it is, if all of its members are new.
func TestFramesWithSeveralMembersAreStored(t *testing.T) {
	s := newShelf(t)
	body := framed(blobsOf(0, 20), blobsOf(20, 21))
	if status, answer := s.call("POST", "packs", inFrames.Clone(), body); status != 200 {
		t.Fatal(status, string(answer))
	}
	if whole, list := s.object(3); !bytes.Equal(whole, body) || len(list) != 21 {
		t.Errorf("%d members, and other bytes than those that came", len(list))
	}
	wrong := blobsOf(30, 40)
	wrong[4].Text = []byte("fog")
	status, answer := s.call("POST", "packs", inFrames.Clone(), framed(blobsOf(10, 30), wrong))
	var results protocol.PackAnswer
	if err := json.Unmarshal(answer, &results); err != nil || status != 200 || len(results.Results) != 30 {
		t.Fatal(status, string(answer), err)
	}
	for _, r := range results.Results {
		if r.OK == (r.Digest == wrong[4].Digest) {
			t.Errorf("%+v", r)
		}
	}
	if _, list := s.object(25); len(list) != 9+9 {
		t.Errorf("%d members were stored, of which some were there or are wrong", len(list))
	}
	if n := s.fetch(0, 40, "zstd"); n != 39 {
		t.Errorf("%d are there", n)
	}
	large := []pack.Blob{{Text: bytes.Repeat([]byte("a"), pack.Together)}, {Text: bytes.Repeat([]byte("b"), pack.Together)}}
	for i := range large {
		large[i].Digest = digest.Of(large[i].Text)
	}
	if status, answer := s.call("POST", "packs", inFrames.Clone(), framed(large)); status != 400 ||
		!strings.Contains(string(answer), "2 members of") {
		t.Errorf("too many together: %d, %s", status, answer)
	}
}

// A client gets what it asked for. What shares a frame with that comes along if it is little, and
// on a shelf that the client reads.
func TestOnlyWhatWasAskedForIsSent(t *testing.T) {
	s := newShelf(t)
	body := framed(blobsOf(0, 20), blobsOf(20, 40))
	if status, answer := s.call("POST", "packs", inFrames.Clone(), body); status != 200 {
		t.Fatal(status, string(answer))
	}
	reader := s.auth
	other := s.Token(t, "isla", "person/isla", "person/isla")
	for _, c := range []struct {
		from, to, blobs, frames int
		auth, accept            string
	}{
		{0, 40, 40, 2, reader, protocol.TypeFrames},
		{0, 35, 40, 2, reader, protocol.TypeFrames},
		{5, 6, 1, 1, reader, protocol.TypeFrames},
		{0, 40, 40, 40, reader, protocol.TypePack}, // a client that knows one member in a frame
		{0, 35, 35, 2, other, protocol.TypeFrames},
		{0, 40, 40, 2, other, protocol.TypeFrames},
	} {
		s.auth = c.auth
		ask, _ := json.Marshal(protocol.Digests{Digests: digests(c.from, c.to)})
		status, answer := s.call("POST", "packs/fetch", http.Header{"Accept": {c.accept}, "Accept-Encoding": {"zstd"}}, ask)
		list, err := pack.Index(bytes.NewReader(answer))
		if status != 200 || err != nil {
			t.Fatal(status, err)
		}
		got, frames := map[digest.Digest]bool{}, map[int64]bool{}
		for _, m := range list {
			got[m.Digest], frames[m.Position] = true, true
		}
		for _, d := range digests(c.from, c.to) {
			if !got[d] {
				t.Errorf("%+v: %s did not come", c, d.Short())
			}
		}
		if len(got) != c.blobs || len(list) != c.blobs || len(frames) != c.frames {
			t.Errorf("%+v: %d blobs in %d frames", c, len(list), len(frames))
		}
	}
}

// The index of a pack object can be made again from it alone.
func TestPackObjectsSayWhatIsInThem(t *testing.T) {
	s := newShelf(t)
	s.put(0, 100)
	have, err := s.DB.Blobs(t.Context(), s.token.RepositoryID, digests(0, 100))
	if err != nil || len(have) != 100 {
		t.Fatal(len(have), err)
	}
	_, list := s.object(0)
	if len(list) != 100 {
		t.Fatal(len(list))
	}
	for _, m := range list {
		if row := have[m.Digest]; row.Position != m.Position || row.Packed != m.Length || row.Size != m.Size {
			t.Errorf("%+v, and the row says %+v", m, row)
		}
	}
}

func TestCompactionLosesNothingAndGivesRoomBack(t *testing.T) {
	s := newShelf(t)
	for i := range 4 {
		s.put(i*100, i*100+100)
	}
	if got := s.compact(0); got.Packs > 0 {
		t.Errorf("packs that are all live were written again: %+v", got)
	}
	// Nothing names the blobs: without their leases all but each tenth go.
	var keep [][]byte
	for i := 0; i < 400; i += 10 {
		d := digest.Of(text(i))
		keep = append(keep, d[:])
	}
	s.exec(`UPDATE blobs SET leased_until = now() - interval '1 hour' WHERE NOT digest = ANY($1)`, keep)
	s.cleanup(time.Hour) // marks them
	live := func() int { return s.fetch(0, 400, "zstd") }
	if n := live(); n != 40 {
		t.Errorf("%d are live", n)
	}
	got := s.compact(time.Hour)
	if got.Packs != 4 || got.Blobs != 40 || live() != 40 {
		t.Errorf("%+v, %d are live", got, live())
	}
	if _, list := s.object(10); len(list) != 40 {
		t.Errorf("the new pack has %d members", len(list))
	}
	s.cleanup(time.Hour)
	if n := s.objects(); n != 5 {
		t.Errorf("%d objects: an old pack was deleted before its time", n)
	}
	// One that is uploaded again is in a new pack, whatever becomes of the old one.
	s.put(1, 2)
	s.exec(`UPDATE orphaned_objects SET delete_after = now() - interval '1 hour'`)
	s.exec(`UPDATE blobs SET marked_at = now() - interval '1 day' WHERE marked_at IS NOT NULL`)
	s.cleanup(time.Hour)
	if n := s.objects(); n != 2 {
		t.Errorf("%d objects are left", n)
	}
	if n := live(); n != 41 {
		t.Errorf("%d are live", n)
	}
	var left int
	if err := s.DB.Get(&left, `SELECT (SELECT count(*) FROM packs) + (SELECT count(*) FROM orphaned_objects)`); err != nil || left != 2 {
		t.Errorf("%d rows of packs and orphaned objects, %v", left, err)
	}
	if got := s.compact(0); got.Packs > 0 {
		t.Errorf("it is written again: %+v", got)
	}
}

func TestSmallPacksArePutTogether(t *testing.T) {
	s := newShelf(t)
	for i := range 12 {
		s.put(i, i+1)
	}
	if got := s.compact(0); got.Packs > 0 {
		t.Errorf("new ones were: %+v", got)
	}
	s.exec(`UPDATE packs SET made_at = now() - interval '2 days'`)
	if got := s.compact(0); got.Packs != 12 || got.Blobs != 12 {
		t.Errorf("%+v", got)
	}
	s.cleanup(0)
	if n := s.objects(); n != 1 || s.fetch(0, 12, "zstd") != 12 {
		t.Errorf("%d objects", n)
	}
}

// brokenStore loses the end of an object.
type brokenStore struct{ blobs.Store }

var errBroken = errors.New("the disk is full")

func (b brokenStore) Put(_ context.Context, _ string, r io.Reader) error {
	_, _ = io.CopyN(io.Discard, r, 1000)
	return errBroken
}

func TestACompactionThatFailsChangesNothing(t *testing.T) {
	s := newShelf(t)
	s.put(0, 100)
	s.exec(
		`UPDATE blobs SET leased_until = now() - interval '1 hour' WHERE NOT digest = $1`,
		func() []byte { d := digest.Of(text(7)); return d[:] }(),
	)
	s.cleanup(time.Hour)
	_, err := packs.Compactor{Records: s.DB, Store: brokenStore{s.store}}.Compact(t.Context())
	if !errors.Is(err, errBroken) {
		t.Errorf("the error was %v", err)
	}
	if n := s.fetch(0, 100, "zstd"); n != 1 {
		t.Errorf("%d are live", n)
	}
	s.cleanup(time.Hour)
	if got := s.compact(0); got.Blobs != 1 || s.fetch(0, 100, "zstd") != 1 {
		t.Errorf("the next one: %+v", got)
	}
}

// An object that is lost costs its own blobs, and no others.
func TestALostObjectIsLeftOut(t *testing.T) {
	s := newShelf(t)
	s.mayComplain = true
	s.put(0, 100)
	s.put(100, 200)
	have, err := s.DB.Blob(t.Context(), s.token.RepositoryID, digest.Of(text(5)))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.store.Delete(t.Context(), have.Object); err != nil {
		t.Fatal(err)
	}
	for _, encoding := range []string{"zstd", "identity"} {
		if n := s.fetch(0, 200, encoding); n != 100 {
			t.Errorf("%s: %d blobs came", encoding, n)
		}
	}
	if !strings.Contains(s.log.String(), have.Object) {
		t.Error("the log does not name the object")
	}
}

// A member whose object could not be stored has no row, whatever else was stored.
func TestAMemberThatCannotBeStoredIsNotThere(t *testing.T) {
	backend := s3mem.New()
	if err := backend.CreateBucket("loft"); err != nil {
		t.Fatal(err)
	}
	inner := gofakes3.New(backend).Server()
	bucket := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut && !strings.Contains(r.URL.Path, "/packs/") {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		inner.ServeHTTP(w, r)
	}))
	t.Cleanup(bucket.Close)
	s := shelfWith(t, func(c *service.Config) {
		c.Bucket, c.BucketKey, c.BucketSecret = bucket.URL+"/loft?region=x", "key", "secret"
	})
	s.mayComplain = true
	large := make([]byte, 1<<20)
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := range 9 { // enough for a batch to be stored before the end
		large[0] = byte(i)
		_ = w.WriteHeader(pack.Header(digest.Of(large), int64(len(large))))
		_, _ = w.Write(large)
	}
	b.Write(archive(0, 20))
	if status, answer := s.call("POST", "packs", http.Header{"Content-Type": {protocol.TypePack}}, b.Bytes()); status < 500 {
		t.Errorf("%d: %s", status, answer)
	}
	large[0] = 0 // the first
	if lack, err := s.DB.Missing(t.Context(), s.token.RepositoryID, []digest.Digest{digest.Of(large)}); err != nil || len(lack) != 1 {
		t.Errorf("what was not stored is there: %v", err)
	}
}

func TestRangesAreFew(t *testing.T) {
	at := func(object string, position, length int64) records.Blob {
		return records.Blob{Object: object, Position: position, Packed: length, Size: length}
	}
	ranges := packs.Ranges([]records.Blob{
		at(
			"b",
			1000,
			50,
		), at("a", 100, 100), at("a", 0, 100), at("b", 900, 100), at("a", 10<<20, 5), {Object: "whole", Size: 9}, at("a", 200+100<<10, 7),
	})
	var got []string
	for _, r := range ranges {
		got = append(got, fmt.Sprint(r.Object, " ", r.From, "+", r.Length, ":", len(r.Blobs)))
	}
	want := fmt.Sprint([]string{"a 0+102607:3", "a 10485760+5:1", "b 900+150:2", "whole 0+9:1"})
	if fmt.Sprint(got) != want {
		t.Errorf("%v, not %v", got, want)
	}
}
