package remote

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
)

// memory is a [Store] in memory.
type memory struct {
	mu      sync.Mutex
	blobs   map[digest.Digest][]byte
	spool   map[string][]byte
	refused []string
	silence time.Time

	rights   *protocol.Self
	rightsOf string
}

func newMemory() *memory {
	return &memory{blobs: map[digest.Digest][]byte{}, spool: map[string][]byte{}}
}

func (m *memory) Keep(d digest.Digest, r io.Reader) error {
	b, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if digest.Of(b) != d {
		return errors.New("not what was asked for")
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.blobs[d] = b
	return nil
}

func (m *memory) KeepFrame(_ []byte, list []pack.Blob) error { return m.KeepTexts(list) }

func (m *memory) KeepTexts(list []pack.Blob) error {
	for _, b := range list {
		if err := m.Keep(b.Digest, bytes.NewReader(b.Text)); err != nil {
			return err
		}
	}
	return nil
}

func (m *memory) Partial(d digest.Digest, size, piece int64) (protocol.Pieces, error) {
	return nil, protocol.ErrBusy
}

func (m *memory) Read(d digest.Digest) ([]byte, error) { return m.blobs[d], nil }
func (m *memory) ReaderAt(d digest.Digest) (protocol.OpenBlob, error) {
	return struct {
		*bytes.Reader
		io.Closer
	}{bytes.NewReader(m.blobs[d]), io.NopCloser(nil)}, nil
}
func (m *memory) Size(d digest.Digest) (int64, error) { return int64(len(m.blobs[d])), nil }
func (m *memory) Spool(name string, data []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.spool[name] = data
	return nil
}
func (m *memory) Spooled() (names []string, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for n := range m.spool {
		names = append(names, n)
	}
	return names, nil
}
func (m *memory) ReadSpooled(name string) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	b, ok := m.spool[name]
	if !ok {
		return nil, errors.New("none")
	}
	return b, nil
}

func (m *memory) Unspool(name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.spool, name)
	return nil
}

func (m *memory) Rights(service, repo, token string) (protocol.Self, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.rights == nil || m.rightsOf != service+" "+repo+" "+token {
		return protocol.Self{}, false
	}
	return *m.rights, true
}

func (m *memory) KeepRights(service, repo, token string, self *protocol.Self) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.rights, m.rightsOf = self, service+" "+repo+" "+token
}

func (m *memory) SilentSince(string) time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.silence
}

func (m *memory) KeepSilence(_ string, silent bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.silence = time.Time{}
	if silent {
		m.silence = time.Now()
	}
}

func (m *memory) SetAside(name string) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.refused = append(m.refused, name)
	delete(m.spool, name)
	return "refused/" + name, nil
}

// client returns a client of a handler, and its warnings.
func client(t *testing.T, h http.HandlerFunc) (*Client, *memory, *[]string) {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	m := newMemory()
	c := New(s.URL+"/", "test", "loft-x", m)
	var said []string
	c.Warn = func(s string) { said = append(said, s) }
	return c, m, &said
}

func TestTroubleIsReportedOnceAndEndsRequests(t *testing.T) {
	asked := 0
	c, _, said := client(t, func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.Header().Set("Content-Type", protocol.TypeProblem)
		w.WriteHeader(http.StatusServiceUnavailable)
		_ = json.NewEncoder(w).Encode(protocol.Problem{Title: "full", Status: 503, Detail: "the disk is full"})
	})
	for range 3 {
		if _, err := c.Lookup(context.Background(), []protocol.Query{{Task: "a"}}); !errors.Is(err, protocol.ErrDown) {
			t.Errorf("%v", err)
		}
	}
	if asked != 1+retries || len(*said) != 1 || !strings.Contains((*said)[0], "refuses: the disk is full") {
		t.Errorf("asked %d times, said %q", asked, *said)
	}
}

func TestAnInterruptIsNotTrouble(t *testing.T) {
	c, _, said := client(t, func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := c.Self(ctx); !errors.Is(err, context.Canceled) || c.Down() || len(*said) > 0 {
		t.Errorf("%v, down %v, said %q", err, c.Down(), *said)
	}
}

func packOf(names []string, texts ...string) []byte {
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	for i, name := range names {
		_ = tw.WriteHeader(&tar.Header{Name: name, Size: int64(len(texts[i])), Mode: 0o444, Format: tar.FormatUSTAR})
		_, _ = tw.Write([]byte(texts[i]))
	}
	_ = tw.Close()
	return b.Bytes()
}

func TestPacksAreCheckedMemberByMember(t *testing.T) {
	one, two := digest.Of([]byte("one")), digest.Of([]byte("two"))
	much := strings.Repeat("much", 50_000)
	for what, c := range map[string]struct {
		answer []byte
		kept   int
		err    error
	}{
		"all of it":             {packOf([]string{one.String(), two.String()}, "one", "two"), 2, nil},
		"one is left out":       {packOf([]string{one.String()}, "one"), 1, protocol.ErrGone},
		"one was not asked for": {packOf([]string{one.String(), digest.Of(nil).String(), two.String()}, "one", "", "two"), 2, nil},
		"much was not asked for": {
			packOf([]string{one.String(), digest.Of([]byte(much)).String(), two.String()}, "one", much, "two"), 1, protocol.ErrDown,
		},
		"a name that is none": {packOf([]string{"../../etc/passwd"}, "one"), 0, protocol.ErrDown},
		"other contents":      {packOf([]string{one.String(), two.String()}, "one", "owt"), 1, protocol.ErrDown},
		"cut in a member":     {packOf([]string{one.String(), two.String()}, "one", "two")[:1026], 1, protocol.ErrDown},
		"no tar at all":       {bytes.Repeat([]byte("x"), 2000), 0, protocol.ErrDown},
	} {
		cl, m, _ := client(t, func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write(c.answer) })
		_, err := cl.Fetch(context.Background(), []protocol.Blob{{Digest: one, Size: 3}, {Digest: two, Size: 3}})
		if len(m.blobs) < c.kept || (c.err == nil) != (err == nil) || (c.err != nil && !errors.Is(err, c.err)) {
			t.Errorf("%s: %d kept, %v; want %d and %v", what, len(m.blobs), err, c.kept, c.err)
		}
		for d, b := range m.blobs {
			if digest.Of(b) != d || d != one && d != two {
				t.Errorf("%s: %.80q was kept as %s", what, b, d.Short())
			}
		}
	}
}

func TestFramesAreCheckedMemberByMember(t *testing.T) {
	one, two, three := blobOf("one"), blobOf("two"), blobOf("three")
	other := pack.Blob{Digest: two.Digest, Text: []byte("owt")}
	much := blobOf(strings.Repeat("much", 30_000))
	for what, c := range map[string]struct {
		frames [][]pack.Blob
		kept   int
		err    error
	}{
		"all of it":                {[][]pack.Blob{{one, two}, {three}}, 3, nil},
		"one comes twice":          {[][]pack.Blob{{one, one, two}, {three, two}}, 3, nil},
		"one is left out":          {[][]pack.Blob{{one, three}}, 2, protocol.ErrGone},
		"other contents":           {[][]pack.Blob{{one, other, three}}, 1, protocol.ErrDown},
		"another size":             {[][]pack.Blob{{one}, {blobOf("others"), two, three}}, 3, nil},
		"much was not asked for":   {[][]pack.Blob{{one}, {much}, {two, three}}, 1, protocol.ErrDown},
		"nothing that was":         {[][]pack.Blob{{blobOf("others")}}, 0, protocol.ErrGone},
		"the first has others":     {[][]pack.Blob{{other, one}, {three}}, 0, protocol.ErrDown},
		"the second frame differs": {[][]pack.Blob{{one, three}, {other}}, 2, protocol.ErrDown},
	} {
		var answer []byte
		for _, f := range c.frames {
			answer = append(answer, pack.Join(f)...)
		}
		answer = append(answer, pack.End()...)
		cl, m, _ := client(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Encoding", "zstd")
			_, _ = w.Write(answer)
		})
		_, err := cl.Fetch(t.Context(), []protocol.Blob{{Digest: one.Digest, Size: 3}, {Digest: two.Digest, Size: 3}, {Digest: three.Digest, Size: 5}})
		if len(m.blobs) != c.kept || !errors.Is(err, c.err) {
			t.Errorf("%s: %d kept, %v; want %d and %v", what, len(m.blobs), err, c.kept, c.err)
		}
		for d, b := range m.blobs {
			if digest.Of(b) != d {
				t.Errorf("%s: %.80q was kept as %s", what, b, d.Short())
			}
		}
	}
}

func blobOf(text string) pack.Blob {
	return pack.Blob{Digest: digest.Of([]byte(text)), Text: []byte(text)}
}

func TestItemsForAnotherServiceStayInTheSpool(t *testing.T) {
	c, m, _ := client(t, func(w http.ResponseWriter, r *http.Request) {
		_ = json.NewEncoder(w).Encode(protocol.Self{Name: "x", Repo: "test"})
	})
	m.spool["entry-a"] = []byte(`{"service":"http://elsewhere","repo":"test","entry":{}}`) // also under another token
	m.spool["entry-b"] = []byte("damaged")
	if _, err := c.Self(context.Background()); err != nil {
		t.Fatal(err)
	}
	c.backlog.sending.Wait()
	if len(m.spool) != 1 || m.spool["entry-a"] == nil || !slices.Equal(m.refused, []string{"entry-b"}) {
		t.Errorf("left: %v, set aside: %v", m.spool, m.refused)
	}
}

func TestItemsBeingSentAreNeverLost(t *testing.T) {
	listing := digest.Of([]byte("listing"))
	e := protocol.Entry{Key: digest.Of([]byte("key")), Task: "t", Listing: listing, Ingredients: listing}
	during := 0
	var store *memory
	h := func(status int) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if strings.Contains(r.URL.Path, "/entries/") {
				store.mu.Lock()
				during = len(store.spool)
				store.mu.Unlock()
				w.WriteHeader(status)
			}
			_ = json.NewEncoder(w).Encode(map[string]any{"digests": []string{}, "title": "so it is", "status": status})
		}
	}
	for status, left := range map[int]int{201: 0, 403: 0, 503: 1} {
		c, m, _ := client(t, h(status))
		store = m
		m.blobs[listing] = []byte("listing")
		_, _, err := c.Share(context.Background(), e, nil)
		if during != 1 || len(m.spool) != left || (err == nil) != (status == 201) {
			t.Errorf("%d: %d waited while it was sent, %d wait afterwards, %v", status, during, len(m.spool), err)
		}
	}
}
