package attack

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

// full starts a service whose repositories have a quota, and which cleans up
// only when asked.
func full(t *testing.T, quota int64) *trial.Service {
	return trial.ServeWith(t, func(c *service.Config) { c.Retention.Quota = quota })
}

// fresh makes text that differs for each name.
func fresh(name string, n int) []byte {
	return bytes.Repeat([]byte(name+"."), n/(len(name)+1)+1)[:n]
}

func onDisk(t *testing.T, s *trial.Service) (bytes int64) {
	t.Helper()
	err := filepath.WalkDir(filepath.Join(s.Config.Data, "blobs"), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			info, err := d.Info()
			bytes += info.Size()
			return err
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return bytes
}

func TestAFullRepositoryGetsRoomAgain(t *testing.T) {
	t.Parallel()
	s := full(t, 100_000)
	honest := ci(t, s)
	for i := 0; ; i++ {
		text := fresh(fmt.Sprint("old", i), 9_000)
		if got := honest.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text); got.status == 507 {
			break
		} else if i > 20 {
			t.Fatal("the quota does not hold")
		}
	}
	if err := clean(t, s); err != nil {
		t.Fatal(err)
	}
	restartCounting(t, s)
	e := honest.entry("build@a", string(fresh("new", 9_000)))
	if got := honest.file(e, "trusted"); got.status != 201 {
		t.Errorf("a result is refused for ever: %d %s", got.status, got.body)
	}
}

// restartCounting makes a service see at once what its cleanup did.
func restartCounting(t *testing.T, s *trial.Service) {
	t.Helper()
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	again, err := service.Start(context.Background(), s.Config)
	if err != nil {
		t.Fatal(err)
	}
	s.Service = again
}

func TestJunkOfOnePersonCostsNobodyElseAnything(t *testing.T) {
	t.Parallel()
	for name, junk := range map[string]func(a *attacker, i int) answer{
		"blobs": func(a *attacker, i int) answer {
			text := fresh(fmt.Sprint("junk", i), 8_000)
			return a.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text)
		},
		"packs that expand": func(a *attacker, i int) answer {
			return a.pack(packOf(tar.FormatUSTAR, bytes.Repeat([]byte{byte(i)}, 8_000)), true)
		},
		"entries": func(a *attacker, i int) answer {
			text := fresh(fmt.Sprint("junk", i), 8_000)
			if got := a.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text); got.status != 204 {
				return got
			}
			return a.file(a.entry("build@junk", string(text)), "person/mallory")
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := full(t, 100_000)
			honest, mallory := ci(t, s), person(t, s, "mallory")
			outputs := map[string]protocol.Entry{}
			for i := range 5 {
				content := string(fresh(fmt.Sprint("chart", i), 9_000))
				e := honest.entry("build@a", content)
				if got := honest.file(e, "trusted"); got.status != 201 {
					t.Fatal(got.status, got.text())
				}
				outputs[content] = e
			}
			if _, err := s.DB.Exec(`UPDATE entries SET last_used = current_date - 9`); err != nil {
				t.Fatal(err)
			}
			taken := 0
			for i := range 12 {
				if junk(mallory, i).status < 300 {
					taken++
				}
			}
			for range 2 {
				if err := clean(t, s); err != nil {
					t.Fatal(err)
				}
			}
			for content, e := range outputs {
				if !honest.finds(e, content) {
					t.Errorf("a trusted result was evicted for junk (%d pieces of junk were taken)", taken)
				}
			}
			restartCounting(t, s)
			if got := honest.file(honest.entry("build@b", string(fresh("after", 9_000))), "trusted"); got.status != 201 {
				t.Errorf("the trusted shelf has no room: %d %s", got.status, got.text())
			}
		})
	}
}

// TestTinyBlobsCountWhatTheyTake uploads blobs whose rows are much larger than their contents.
func TestTinyBlobsCountWhatTheyTake(t *testing.T) {
	s := full(t, 400_000)
	a := person(t, s, "mallory")
	taken := 0
	for i := range 200 {
		text := fmt.Appendf(nil, "%04d", i)
		got := a.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text)
		if got.status >= 300 {
			if got.status != 507 {
				t.Fatal(got.status, got.text())
			}
			break
		}
		taken++
	}
	if taken < 50 || taken > 110 { // a quarter of the quota, and each takes a kilobyte
		t.Errorf("%d tiny blobs were taken", taken)
	}
}

func TestParallelUploadsStayWithinTheQuota(t *testing.T) {
	t.Parallel()
	const quota = 400_000
	for name, size := range map[string]int{"two at a time would fit": 150_000, "many small ones": 20_000} {
		t.Run(name, func(t *testing.T) {
			s := full(t, quota)
			var wg sync.WaitGroup
			for i := range 40 {
				who := ci(t, s) // each with a token of its own, so that only the quota limits them
				wg.Go(func() {
					text := fresh(fmt.Sprint("part", i), size)
					who.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text)
				})
			}
			wg.Wait()
			if n := count(t, s, "SELECT coalesce(sum(size), 0)::bigint FROM blobs"); n > quota || n < quota/4 {
				t.Errorf("%d bytes are stored, with a quota of %d", n, quota)
			}
			if n := onDisk(t, s); n > quota {
				t.Errorf("%d bytes are on the disk, with a quota of %d", n, quota)
			}
		})
	}
}

func TestUploadingOneBlobAgainAddsNothing(t *testing.T) {
	t.Parallel()
	for name, send := range map[string]func(a *attacker, text []byte) answer{
		"alone": func(a *attacker, text []byte) answer {
			return a.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text)
		},
		"in packs": func(a *attacker, text []byte) answer { return a.pack(packOf(tar.FormatUSTAR, text, text), false) },
		"beside itself": func(a *attacker, text []byte) answer {
			var wg sync.WaitGroup
			for range 3 {
				wg.Go(func() { a.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text) })
			}
			wg.Wait()
			return answer{}
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := full(t, 1_000_000)
			a := person(t, s, "mallory")
			text := fresh("again", 50_000)
			for range 30 {
				send(a, text)
			}
			if err := clean(t, s); err != nil {
				t.Fatal(err)
			}
			if n := onDisk(t, s); n > 60_000 {
				t.Errorf("%d bytes are on the disk for one blob of 50,000", n)
			}
		})
	}
}

func TestWhatWaitsForDeletionCounts(t *testing.T) {
	t.Parallel()
	s := full(t, 200_000)
	a := ci(t, s)
	for round := range 8 {
		for i := range 20 {
			text := fresh(fmt.Sprint("round", round, i), 9_500)
			a.send("PUT", "/v1/test/blobs/"+digest.Of(text).String(), text)
		}
		if err := clean(t, s); err != nil {
			t.Fatal(err)
		}
		restartCounting(t, s)
	}
	if n := onDisk(t, s); n > 230_000 {
		t.Errorf("%d bytes are on the disk, with a quota of 200,000 and a tenth for what waits", n)
	}
	if _, err := s.DB.Exec(`UPDATE blobs SET marked_at = marked_at - interval '61 minutes'`); err != nil {
		t.Fatal(err)
	}
	if err := clean(t, s); err != nil {
		t.Fatal(err)
	}
	restartCounting(t, s)
	if got := a.file(a.entry("build@a", string(fresh("new", 9_000))), "trusted"); got.status != 201 {
		t.Errorf("after an hour there is no room: %d %s", got.status, got.text())
	}
}

// packOf returns a pack of texts. Another format than ustar adds extensions.
func packOf(format tar.Format, texts ...[]byte) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, text := range texts {
		h := &tar.Header{Name: digest.Of(text).String(), Size: int64(len(text)), Mode: 0o444, Format: format}
		if format == tar.FormatPAX {
			h.PAXRecords = map[string]string{"LOFT.note": "x"}
		}
		_ = w.WriteHeader(h)
		_, _ = w.Write(text)
	}
	_ = w.Close()
	return b.Bytes()
}

func (a *attacker) pack(body []byte, compress bool) answer {
	a.t.Helper()
	header := http.Header{"Content-Type": {protocol.TypePack}}
	if compress {
		enc, err := zstd.NewWriter(nil)
		if err != nil {
			a.t.Fatal(err)
		}
		body, header["Content-Encoding"] = enc.EncodeAll(body, nil), []string{"zstd"}
	}
	return a.raw("POST", "/v1/test/packs", bytes.NewReader(body), int64(len(body)), header)
}

// zeros returns the digest of so many zero bytes.
func zeros(n int64) digest.Digest {
	h := digest.New()
	_, _ = io.CopyN(h, zeroReader{}, n)
	return digest.From(h)
}

type zeroReader struct{}

func (zeroReader) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func TestPacksDoNotExpandPastTheirLimits(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(*service.Config) {})
	a := person(t, s, "mallory")
	const hole = 300 << 20
	many := func() []byte { // 400 MB of zeros in members that are each allowed
		var list [][]byte
		for i := range 200 {
			text := make([]byte, 2<<20)
			text[0] = byte(i)
			list = append(list, text)
		}
		return packOf(tar.FormatUSTAR, list...)
	}
	for name, body := range map[string][]byte{
		"a GNU sparse member": trial.Sparse(zeros(hole), hole, false), "a PAX sparse member": trial.Sparse(zeros(hole), hole, true),
		"a member with PAX records": packOf(tar.FormatPAX, []byte("x")), "a member larger than allowed": packOf(tar.FormatUSTAR, make([]byte, 3<<20)),
		"members that are together too large": many(),
	} {
		for _, compress := range []bool{false, true} {
			if len(body) > protocol.MaxPack && !compress {
				continue
			}
			refused(t, fmt.Sprint(name, ", compressed: ", compress), a.pack(body, compress))
		}
	}
	var frames []byte // the same, each member a frame of its own
	for i := range 200 {
		text := make([]byte, 2<<20)
		text[0] = byte(i)
		frames = append(frames, pack.Frame(digest.Of(text), text)...)
	}
	huge := pack.Frame(zeros(3<<20), make([]byte, 3<<20))
	// A few hundred bytes each, of hundreds of members.
	empty := bytes.Repeat(
		pack.Join(slices.Repeat([]pack.Blob{{Digest: digest.Of(nil)}}, pack.Together/512)),
		protocol.MaxPack/pack.Together*2,
	)
	for name, body := range map[string][]byte{
		"frames that are together too large": frames, "a frame larger than allowed": huge, "very many empty members": append(empty, pack.End()...),
	} {
		header := http.Header{"Content-Type": {protocol.TypeFrames}, "Content-Encoding": {"zstd"}}
		refused(t, name, a.raw("POST", "/v1/test/packs", bytes.NewReader(body), int64(len(body)), header))
	}
	if n := onDisk(t, s); n > protocol.MaxPack+4096 { // and what the frames of small members take
		t.Errorf("%d bytes are stored", n)
	}
	if n := count(t, s, "SELECT count(*) FROM blobs WHERE size > $1", protocol.PackedBlob); n != 0 {
		t.Errorf("%d blobs larger than a member may be are stored", n)
	}
}

func TestNumbersOfOneClientHarmNobody(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(c *service.Config) { c.Retention.Quota = 50_000_000 })
	honest, mallory := ci(t, s), person(t, s, "mallory")
	content := "a chart of the harbour"
	kept := honest.entry("build@a", content)
	honest.file(kept, "trusted")

	for _, bytes := range []int64{1<<63 - 1, -1 << 62, -1, 1 << 60} {
		e := mallory.entry("build@b", fmt.Sprint("outputs ", bytes))
		e.Bytes = bytes
		mallory.file(e, "person/mallory")
	}
	if n := count(t, s, "SELECT coalesce(max(bytes), 0) - coalesce(min(bytes), 0) FROM entries"); n > 1000 {
		t.Errorf("bytes that a client invented are recorded: they differ by %d", n)
	}
	if err := clean(t, s); err != nil {
		t.Errorf("the cleanup fails: %v", err)
	}
	if !honest.finds(kept, content) {
		t.Error("a result was evicted")
	}

	run := func(id string) map[string]any {
		return map[string]any{
			"id":        id,
			"name":      "m",
			"host":      "h",
			"place":     "p",
			"branch":    "",
			"commit":    "",
			"shelf":     "",
			"requested": []string{},
			"no_reuse":  false,
			"jobs":      1,
			"tasks":     1,
			"started":   time.Now().UTC().Format(time.RFC3339),
		}
	}
	for name, change := range map[string]func(map[string]any){
		"jobs": func(r map[string]any) { r["jobs"] = 3_000_000_000 }, "tasks": func(r map[string]any) { r["tasks"] = -1 << 40 },
		"started":   func(r map[string]any) { r["started"] = "9999-01-01T00:00:00Z" },
		"place":     func(r map[string]any) { r["place"] = strings.Repeat("x", 1<<20) },
		"host":      func(r map[string]any) { r["host"] = "a\x00b" },
		"requested": func(r map[string]any) { r["requested"] = make([]string, 100_000) },
	} {
		r := run("run-wrong-" + name)
		change(r)
		got := mallory.send("POST", "/v1/test/runs", r)
		if refused(t, name, got); !strings.Contains(got.text(), name) {
			t.Errorf("%s: the answer does not name the field: %s", name, got.text())
		}
	}
	mallory.want("POST", "/v1/test/runs", run("run-000001"))
	for name, finish := range map[string]string{
		"saved_seconds": `{"ok":true,"seconds":1,"saved_seconds":1.7e308,"totals":{}}`,
		"cost_seconds":  `{"ok":true,"seconds":1,"cost_seconds":-1.7e308,"totals":{}}`,
		"seconds":       `{"ok":true,"seconds":1e300,"totals":{}}`,
		"bytes_in":      `{"ok":true,"seconds":1,"bytes_in":9223372036854775807,"totals":{}}`,
		"totals":        `{"ok":true,"seconds":1,"totals":{"won":1}}`,
	} {
		got := mallory.send("POST", "/v1/test/runs/run-000001/events", `{"events":[{"seq":1,"finish":`+finish+`}]}`)
		if refused(t, name, got); !strings.Contains(got.text(), name) {
			t.Errorf("%s: the answer does not name the field: %s", name, got.text())
		}
	}
	// What the service can compute, it computes.
	mallory.want("POST", "/v1/test/runs/run-000001/events",
		`{"events":[{"seq":1,"finish":{"ok":true,"seconds":1,"saved_seconds":2000000,"totals":{}}}]}`)
	var b protocol.Balance
	trial.Wait(t, "the run is rolled up", func() bool {
		return json.Unmarshal(honest.want("GET", "/v1/test/balance?days=2", nil).body, &b) == nil && b.Total.Runs == 1
	})
	if b.Total.SavedSeconds != 0 {
		t.Errorf("the balance of everybody: %+v", b.Total)
	}
}

func TestOneRepositorysErrorDoesNotEndTheCleanupOfOthers(t *testing.T) {
	t.Parallel()
	s := trial.ServeWith(t, func(*service.Config) {})
	first := as(t, s, s.TokenFor(t, "aaa", "ci", "trusted", "trusted"))
	first.s = &trial.Service{Service: s.Service, DB: s.DB, Repo: "aaa"}
	first.put([]byte("a blob in the first repository"))
	second := ci(t, s)
	second.put([]byte("a blob in the second repository"))
	// The database refuses every change of the first repository's blobs.
	if _, err := s.DB.Exec(`UPDATE blobs SET leased_until = now() - interval '1 day'`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.DB.Exec(`
		CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE numeric_value_out_of_range; END $$;
		CREATE TRIGGER refuse BEFORE UPDATE OR DELETE ON blobs FOR EACH ROW
			WHEN (OLD.repository_id = ` + fmt.Sprint(count(t, s, "SELECT min(id) FROM repositories")) + `) EXECUTE FUNCTION refuse()`); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := clean(t, s); err == nil {
			t.Error("the error is not reported")
		}
		if _, err := s.DB.Exec(`UPDATE blobs SET marked_at = marked_at - interval '3 days' WHERE repository_id = $1`, repository(t, s)); err != nil {
			t.Fatal(err)
		}
	}
	if n := count(t, s, "SELECT count(*) FROM blobs WHERE repository_id = $1", repository(t, s)); n != 0 {
		t.Errorf("%d blobs of the second repository are still there", n)
	}
}

func TestATokenThatOnlyReadsRecordsNothing(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	reader := as(t, s, s.Token(t, "reader", "", "trusted"))
	got := reader.send("POST", "/v1/test/runs", `{"id":"run-000001","name":"","host":"","place":"","branch":"","commit":"","shelf":"",`+
		`"requested":[],"no_reuse":false,"jobs":1,"tasks":1,"started":"2026-11-20T00:00:00Z"}`)
	refused(t, "a run", got)
	refused(t, "durations", reader.send("POST", "/v1/test/parts/"+digest.Of([]byte("x")).String(), protocol.PartsQuestion{}))
	refused(t, "events", reader.send("POST", "/v1/test/runs/run-000001/events", `{"events":[]}`))
	refused(t, "a blob", reader.send("PUT", "/v1/test/blobs/"+digest.Of([]byte("x")).String(), []byte("x")))
	if n := count(t, s, "SELECT count(*) FROM runs WHERE repository_id = $1", repository(t, s)); n != 0 {
		t.Errorf("%d runs are recorded", n)
	}
}

func TestListingsWithFalseSizesAreRefused(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	a := person(t, s, "mallory")
	d := a.put([]byte("small"))
	row := func(path string, size int64) string { return fmt.Sprintf("f\t%d\t%s\t%s\n", size, d, path) }
	for name, list := range map[string]string{
		"a false size first and the true one last": row("a", 9e12) + row("b", 5),
		"the true one first and a false size last": row("a", 5) + row("b", 9e12),
		"one false size":            row("a", 6),
		"larger than a file may be": row("a", 1<<62),
	} {
		in := &key.Ingredients{Dir: "a", Command: []string{name}}
		e := protocol.Entry{Key: key.OfEncoded(in.Encode()), Task: "build@a", Listing: a.put([]byte("grayloft-listing 1\n" + list)),
			Ingredients: a.put(in.Encode()), MadeBy: protocol.Maker{At: time.Now()}}
		refused(t, name, a.file(e, "person/mallory"))
		if a.finds(e, "small") {
			t.Errorf("%s: a colleague gets it", name)
		}
	}
}
