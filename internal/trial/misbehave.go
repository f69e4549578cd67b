package trial

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// Misbehaving is a service that passes requests on to a real one, and plays
// tricks on its clients.
type Misbehaving struct {
	URL   string
	Trick func(call string) string // the trick for a call; "" for none. Both are among [Calls] and [Tricks]

	real  *httputil.ReverseProxy
	stop  chan struct{}
	mu    sync.Mutex
	forge map[digest.Digest][]byte
	heard []*http.Request
}

// Calls are the kinds of requests that a client sends.
var Calls = []string{"self", "lookup", "missing", "fetch", "blob", "packs", "put", "entry", "runs", "events"}

// Tricks are what a misbehaving service does instead of answering.
var Tricks = []string{
	"stall", "drip", "drip a pack", "cut", "junk", "redirect", "fail", "later", "huge string", "many objects", "huge header", "endless",
	"zero listing", "size 9223372036854775807", "size 4611686018427387904", "size 9000000000000", "size 8589934592", "negative bytes",
	"other member", "sparse member", "huge member", "bomb", "control characters", "empty", "slow upload",
}

// Misbehave starts a misbehaving service in front of a real one.
func Misbehave(t testing.TB, real string, trick func(call string) string) *Misbehaving {
	t.Helper()
	u, err := url.Parse(real)
	if err != nil {
		t.Fatal(err)
	}
	m := &Misbehaving{
		Trick: trick, real: httputil.NewSingleHostReverseProxy(u), stop: make(chan struct{}), forge: map[digest.Digest][]byte{},
	}
	m.real.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) }
	server := httptest.NewServer(m)
	m.URL = server.URL
	t.Cleanup(func() { close(m.stop); server.CloseClientConnections(); server.Close() })
	return m
}

// Heard returns the requests that came so far.
func (m *Misbehaving) Heard() []*http.Request {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.heard)
}

// callOf tells which call a request is.
func callOf(r *http.Request) string {
	_, path, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/v1/"), "/")
	switch {
	case path == "entries/lookup":
		return "lookup"
	case path == "blobs/missing":
		return "missing"
	case path == "packs/fetch":
		return "fetch"
	case strings.HasPrefix(path, "blobs/") && r.Method == http.MethodGet:
		return "blob"
	case strings.HasPrefix(path, "blobs/"):
		return "put"
	case strings.HasPrefix(path, "entries/"):
		return "entry"
	case strings.HasSuffix(path, "/events"):
		return "events"
	}
	return path
}

// ServeHTTP implements [http.Handler].
func (m *Misbehaving) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m.mu.Lock()
	m.heard = append(m.heard, r.Clone(r.Context()))
	m.mu.Unlock()
	call := callOf(r)
	trick := m.Trick(call)
	if call == "fetch" && m.fetchForged(w, r) {
		return
	}
	if !m.play(trick, call, w, r) {
		m.real.ServeHTTP(w, r)
	}
}

func (m *Misbehaving) wait(r *http.Request, d time.Duration) bool {
	select {
	case <-m.stop:
	case <-r.Context().Done():
	case <-time.After(d):
		return true
	}
	return false
}

// play plays a trick, and tells whether it took the place of an answer.
func (m *Misbehaving) play(trick, call string, w http.ResponseWriter, r *http.Request) bool {
	switch {
	case trick == "":
		return false
	case call == "lookup" && m.changesEntries(trick):
		m.lookUp(trick, w, r)
		return true
	case trick == "slow upload":
		for one := make([]byte, 1); m.wait(r, 50*time.Millisecond); {
			if _, err := r.Body.Read(one); err != nil {
				break
			}
		}
		return true
	case call == "fetch" && m.packs(trick, w, r):
		return true
	}
	return m.misanswer(trick, w, r)
}

// misanswer plays the tricks that fit every call.
func (m *Misbehaving) misanswer(trick string, w http.ResponseWriter, r *http.Request) bool {
	json := func(text string) { w.Header().Set("Content-Type", "application/json"); _, _ = io.WriteString(w, text) }
	flush := func() { w.(http.Flusher).Flush() }
	switch trick {
	case "stall":
		m.wait(r, time.Hour)
	case "drip", "drip a pack":
		for json(`{"digests":[`); m.wait(r, 100*time.Millisecond); {
			_, _ = io.WriteString(w, " ")
			flush()
		}
	case "cut":
		w.Header().Set("Content-Length", "1000")
		_, _ = io.WriteString(w, `{"entries":[`)
		flush()
		panic(http.ErrAbortHandler)
	case "junk":
		_, _ = w.Write(bytes.Repeat([]byte("\x00\xff junk"), 1000))
	case "redirect":
		http.Redirect(w, r, strings.Replace(m.URL, "127.0.0.1", "localhost", 1)+"/elsewhere", http.StatusTemporaryRedirect)
	case "fail":
		w.WriteHeader(http.StatusInternalServerError)
	case "later":
		w.Header().Set("Retry-After", "99999999999")
		w.WriteHeader(http.StatusTooManyRequests)
	case "huge string":
		json(`{"name":"`)
		part := strings.Repeat("x", 1<<20)
		for range 600 {
			if _, err := io.WriteString(w, part); err != nil {
				return true
			}
		}
		json(`"}`)
	case "many objects":
		json(`{"entries":[` + strings.Repeat("{},", 10<<20) + `{}]}`)
	case "huge header":
		w.Header().Set("X-Huge", strings.Repeat("x", 8<<20))
		json("{}")
	case "endless":
		part := bytes.Repeat([]byte{0}, 1<<20)
		for range 4000 {
			if _, err := w.Write(part); err != nil {
				return true
			}
		}
	case "control characters":
		w.Header().Set("Content-Type", protocol.TypeProblem)
		w.WriteHeader(http.StatusTeapot)
		json(`{"type":"x","title":"\u001b]0;pwned\u0007 title","status":418,"detail":"\u001b[2Jpwned \u009b31m"}`)
	case "empty":
		json("{}")
	default:
		return false
	}
	return true
}

func (m *Misbehaving) changesEntries(trick string) bool {
	return trick == "zero listing" || trick == "negative bytes" || strings.HasPrefix(trick, "size ")
}

// lookUp changes the real answer to a lookup.
func (m *Misbehaving) lookUp(trick string, w http.ResponseWriter, r *http.Request) {
	rec := httptest.NewRecorder()
	m.real.ServeHTTP(rec, r)
	var answer protocol.LookupAnswer
	_ = json.Unmarshal(rec.Body.Bytes(), &answer)
	for i := range answer.Entries {
		e := &answer.Entries[i]
		switch size, isSize := strings.CutPrefix(trick, "size "); {
		case isSize:
			list := fmt.Appendf(nil, "grayloft-listing 1\nf\t%s\t%s\tout/%d\n", size, digest.Of([]byte(trick+e.Task)), i)
			e.Listing = digest.Of(list)
			m.mu.Lock()
			m.forge[e.Listing] = list
			m.mu.Unlock()
		case trick == "zero listing":
			e.Listing = digest.Digest{}
		default:
			e.Bytes, e.Seconds = -1<<62, -1e300
		}
	}
	text, _ := json.Marshal(answer)
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(text)
}

// fetchForged answers requests for forged listings.
func (m *Misbehaving) fetchForged(w http.ResponseWriter, r *http.Request) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.forge) == 0 {
		return false
	}
	text, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(text))
	var in protocol.Digests
	_ = json.Unmarshal(text, &in)
	tw := tar.NewWriter(w)
	for _, d := range in.Digests {
		list, ok := m.forge[d]
		if !ok {
			return false
		}
		_ = tw.WriteHeader(&tar.Header{Name: d.String(), Size: int64(len(list)), Mode: 0o444, Format: tar.FormatUSTAR})
		_, _ = tw.Write(list)
	}
	return tw.Close() == nil
}

// packs plays the tricks with packs.
func (m *Misbehaving) packs(trick string, w http.ResponseWriter, r *http.Request) bool {
	var in protocol.Digests
	text, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(text))
	_ = json.Unmarshal(text, &in)
	if len(in.Digests) == 0 {
		return false
	}
	first := in.Digests[0]
	member := func(w io.Writer, d digest.Digest, size int64, head func(*tar.Header)) *tar.Writer {
		tw := tar.NewWriter(w)
		h := &tar.Header{Name: d.String(), Size: size, Mode: 0o444, Format: tar.FormatUSTAR}
		head(h)
		_ = tw.WriteHeader(h)
		return tw
	}
	same := func(*tar.Header) {}
	zeros := make([]byte, 1<<20)
	switch trick {
	case "other member":
		tw := member(w, digest.Of(zeros), int64(len(zeros)), same)
		_, _ = tw.Write(zeros)
		_ = tw.Close()
	case "sparse member":
		_, _ = w.Write(Sparse(first, 2<<30, r.ContentLength%2 == 0))
	case "huge member":
		tw := member(w, first, 7<<30, same)
		for range 7 << 10 {
			if _, err := tw.Write(zeros); err != nil {
				return true
			}
		}
	case "bomb":
		w.Header().Set("Content-Encoding", "zstd")
		_, _ = w.Write(bomb(first, 7<<30))
	case "drip a pack":
		tw := member(w, first, 1000, same)
		for m.wait(r, 100*time.Millisecond) {
			_, _ = tw.Write([]byte("x"))
			w.(http.Flusher).Flush()
		}
	default:
		return false
	}
	return true
}

// bomb returns a compressed pack with one member of so many zeros. It is put together from blocks
// (RFC 8878, section 3.1.1), because compressing gigabytes takes longer than a run may lose.
func bomb(d digest.Digest, size int64) []byte {
	var head bytes.Buffer
	_ = tar.NewWriter(&head).WriteHeader(&tar.Header{Name: d.String(), Size: size, Mode: 0o444, Format: tar.FormatUSTAR})
	out := []byte{0x28, 0xb5, 0x2f, 0xfd, 0, 13 << 3} // the magic number, no size, a window of 8 MiB
	block := func(last, kind, n int64, data ...byte) {
		h := n<<3 | kind<<1 | last
		out = append(append(out, byte(h), byte(h>>8), byte(h>>16)), data...)
	}
	block(0, 0, int64(head.Len()), head.Bytes()...)
	for left := size; left > 0; left -= 128 << 10 {
		block(0, 1, min(left, 128<<10), 0) // a byte that is repeated
	}
	block(1, 0, 0)
	return out
}

// Sparse returns a pack with one member that consists of a hole: in the old GNU
// form, or in the PAX form (https://www.gnu.org/software/tar/manual/html_node/Sparse-Formats.html).
func Sparse(d digest.Digest, size int64, pax bool) []byte {
	var b bytes.Buffer
	block := func(name string, kind byte, n int64, fill func(h []byte)) {
		h := make([]byte, 512)
		copy(h, name)
		for at, text := range map[int]string{100: "0000444\x00", 108: "0000000\x00", 116: "0000000\x00", 124: fmt.Sprintf("%011o\x00", n),
			136: "00000000000\x00", 257: "ustar\x0000"} {
			copy(h[at:], text)
		}
		h[156] = kind
		fill(h)
		copy(h[148:], "        ")
		sum := 0
		for _, c := range h {
			sum += int(c)
		}
		copy(h[148:], fmt.Sprintf("%06o\x00 ", sum))
		b.Write(h)
	}
	pad := func(text string) {
		b.WriteString(text)
		b.Write(make([]byte, (512-len(text)%512)%512))
	}
	if pax {
		text := paxRecord("GNU.sparse.major", "1") + paxRecord("GNU.sparse.minor", "0") + paxRecord("GNU.sparse.name", d.String()) +
			paxRecord("GNU.sparse.realsize", fmt.Sprint(size))
		block("PaxHeaders/x", 'x', int64(len(text)), func([]byte) {})
		pad(text)
		block("GNUSparseFile/x", '0', 512, func([]byte) {})
		pad(fmt.Sprintf("1\n%d\n0\n", size))
	} else {
		block(d.String(), 'S', 0, func(h []byte) {
			copy(h[257:], "ustar  \x00")
			copy(h[386:], fmt.Sprintf("%011o\x00%011o\x00", size, 0))
			copy(h[483:], fmt.Sprintf("%011o\x00", size))
		})
	}
	b.Write(make([]byte, 1024))
	return b.Bytes()
}

// paxRecord returns a record of a PAX header: its length, a blank, the key, "="
// and the value.
func paxRecord(k, v string) string {
	n := len(k) + len(v) + 3
	for len(fmt.Sprint(n))+len(k)+len(v)+3 != n {
		n++
	}
	return fmt.Sprintf("%d %s=%s\n", n, k, v)
}

// Record starts a service that passes requests on to another one, and calls heard
// with each of them and its body.
func Record(t testing.TB, to *Misbehaving, heard func(r *http.Request, body []byte)) (address string) {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		heard(r, body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		to.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	return server.URL
}
