package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

func large(n int) ([]byte, protocol.Blob) {
	text := make([]byte, n)
	rnd := rand.New(rand.NewPCG(1, uint64(n)))
	for i := range text {
		text[i] = byte(rnd.Uint32())
	}
	return text, protocol.Blob{Digest: digest.Of(text), Size: int64(n)}
}

// pieces serves the pieces of a blob, as long as may allows it; most answers
// are cut off in the middle.
func pieces(text []byte, may func() bool, sent *atomic.Int64) http.HandlerFunc {
	var n atomic.Int64
	return func(w http.ResponseWriter, r *http.Request) {
		from, _ := strconv.Atoi(r.URL.Query().Get("from"))
		length, _ := strconv.Atoi(r.URL.Query().Get("length"))
		if !may() || length == 0 {
			panic(http.ErrAbortHandler)
		}
		w.Header().Set("Content-Length", strconv.Itoa(length))
		part := text[from : from+length]
		if length > 1000 && n.Add(1)%3 != 0 {
			part = part[:length/2]
		}
		_, _ = w.Write(part)
		sent.Add(int64(len(part)))
		if len(part) < length {
			panic(http.ErrAbortHandler)
		}
	}
}

func TestALargeBlobArrivesThroughALineWithCuts(t *testing.T) {
	text, b := large(3*protocol.PieceBytes + 12345)
	var sent atomic.Int64
	c, _, said := client(t, pieces(text, func() bool { return true }, &sent))
	st, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	c.store = st
	moved, err := c.Fetch(context.Background(), []protocol.Blob{b})
	if err != nil || len(*said) > 0 {
		t.Fatal(err, *said)
	}
	if got, err := st.Read(b.Digest); err != nil || !bytes.Equal(got, text) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	// Bytes that arrived are never requested again: cuts cost requests, not
	// bytes.
	if moved > b.Size+int64(len(text))/10 || sent.Load() > b.Size+int64(len(text))/10 {
		t.Errorf("%d bytes moved and %d sent for %d", moved, sent.Load(), b.Size)
	}
}

func TestADownloadContinuesInTheNextRun(t *testing.T) {
	text, b := large(6 * protocol.PieceBytes)
	dir := t.TempDir()
	fetch := func(may func() bool) (int64, error) {
		var sent atomic.Int64
		c, _, _ := client(t, pieces(text, may, &sent))
		st, err := store.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		c.store = st
		_, err = c.Fetch(context.Background(), []protocol.Blob{b})
		return sent.Load(), err
	}
	var asked atomic.Int64
	if _, err := fetch(func() bool { return asked.Add(1) < 12 }); !errors.Is(err, protocol.ErrDown) {
		t.Fatalf("a service that ended: %v", err)
	}
	sent, err := fetch(func() bool { return true })
	if err != nil {
		t.Fatal(err)
	}
	if sent > b.Size*2/3 {
		t.Errorf("%d of %d bytes were sent again", sent, b.Size)
	}
	st, _ := store.Open(dir)
	if got, err := st.Read(b.Digest); err != nil || !bytes.Equal(got, text) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
}

func TestWrongPiecesAreDetected(t *testing.T) {
	text, b := large(2 * protocol.PieceBytes)
	dir := t.TempDir()
	st, _ := store.Open(dir)
	p, err := st.Partial(b.Digest, b.Size, protocol.PieceBytes)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.Partial(b.Digest, b.Size, protocol.PieceBytes); !errors.Is(err, protocol.ErrBusy) {
		t.Errorf("two at a time: %v", err)
	}
	wrong := bytes.Clone(text[:protocol.PieceBytes])
	wrong[77] ^= 1
	if err := errors.Join(p.Put(0, wrong), p.Put(1, text[protocol.PieceBytes:])); err != nil {
		t.Fatal(err)
	}
	if err := p.Keep(); err == nil || st.Has(b.Digest) {
		t.Errorf("kept: %v", err)
	}
	p.Close()
	if p, err = st.Partial(b.Digest, b.Size, protocol.PieceBytes); err != nil || len(p.Missing()) != 2 {
		t.Errorf("it does not start from the beginning: %v, %v", p.Missing(), err)
	}
}

func TestAServiceThatAsksToComeBackLaterIsWaitedFor(t *testing.T) {
	asked := 0
	c, _, said := client(t, func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked < 3 {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(http.StatusTooManyRequests)
			_ = json.NewEncoder(w).Encode(protocol.Problem{Title: "too many requests", Status: 429})
			return
		}
		_ = json.NewEncoder(w).Encode(protocol.LookupAnswer{})
	})
	if _, err := c.Lookup(context.Background(), []protocol.Query{{Task: "a"}}); err != nil || asked != 3 || len(*said) > 0 {
		t.Errorf("asked %d times, %v, said %q", asked, err, *said)
	}
}

func TestAServiceWithoutRoomIsStillFetchedFrom(t *testing.T) {
	c, m, said := client(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/packs") {
			w.WriteHeader(http.StatusInsufficientStorage)
			_ = json.NewEncoder(w).Encode(protocol.Problem{Title: "full", Status: 507, Detail: "it holds all that it may"})
			return
		}
		if strings.HasSuffix(r.URL.Path, "/missing") {
			var in protocol.Digests
			_ = json.NewDecoder(r.Body).Decode(&in)
			_ = json.NewEncoder(w).Encode(in)
			return
		}
		_ = json.NewEncoder(w).Encode(protocol.LookupAnswer{Entries: []protocol.Entry{
			{Task: "a", Key: digest.Of([]byte("k")), Listing: digest.Of([]byte("l")), Ingredients: digest.Of([]byte("i"))}}})
	})
	text := digest.Of([]byte("listing"))
	m.blobs[text] = []byte("listing")
	for i := range 2 {
		e := protocol.Entry{Key: digest.Of([]byte{byte(i)}), Task: "t", Listing: text, Ingredients: text}
		if _, _, err := c.Share(context.Background(), e, nil); !errors.Is(err, protocol.ErrFull) {
			t.Errorf("%v", err)
		}
	}
	if len(m.spool) != 2 || len(*said) != 1 || !strings.Contains((*said)[0], "all that it may") {
		t.Errorf("%d wait, said %q", len(m.spool), *said)
	}
	if found, err := c.Lookup(context.Background(), []protocol.Query{{Task: "a"}}); err != nil || len(found) != 1 {
		t.Errorf("nothing is fetched any more: %v", err)
	}
}

func TestAnEntryWithManyFilesIsCheckedInParts(t *testing.T) {
	asked := 0
	c, m, said := client(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/missing") {
			var in protocol.Digests
			_ = json.NewDecoder(r.Body).Decode(&in)
			if len(in.Digests) > protocol.MaxDigests {
				w.WriteHeader(http.StatusRequestEntityTooLarge)
			}
			asked += len(in.Digests)
			_ = json.NewEncoder(w).Encode(protocol.Digests{Digests: []digest.Digest{}})
			return
		}
		_ = json.NewEncoder(w).Encode(protocol.Filed{Created: true})
	})
	listing := digest.Of([]byte("listing"))
	m.blobs[listing] = []byte("listing")
	var blobs []protocol.Blob
	for i := range protocol.MaxDigests + 5 {
		blobs = append(blobs, protocol.Blob{Digest: digest.Of([]byte(strconv.Itoa(i))), Size: 1})
	}
	e := protocol.Entry{Key: listing, Task: "t", Listing: listing, Ingredients: listing}
	if _, filed, err := c.Share(context.Background(), e, blobs); err != nil || !filed.Created || len(*said) > 0 || asked != len(blobs)+1 {
		t.Errorf("asked about %d of %d, %v, said %q", asked, len(blobs), err, *said)
	}
}
