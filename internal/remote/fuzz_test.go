package remote

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

type answering func() *http.Response

func (a answering) RoundTrip(*http.Request) (*http.Response, error) { return a(), nil }

// Whatever a service sends as a pack, only requested blobs are stored, and each
// matches its digest.
func FuzzPackFromAService(f *testing.F) {
	asked := []byte("what was asked for")
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	_ = tw.WriteHeader(&tar.Header{Name: digest.Of(asked).String(), Size: int64(len(asked)), Mode: 0o444, Format: tar.FormatUSTAR})
	_, _ = tw.Write(asked)
	tw.Close()
	f.Add(b.Bytes(), false)
	f.Add(b.Bytes()[:600], false)
	enc, _ := zstd.NewWriter(nil)
	f.Add(enc.EncodeAll(b.Bytes(), nil), true)
	f.Fuzz(func(t *testing.T, body []byte, compressed bool) {
		m := newMemory()
		c := New("http://127.0.0.1:1", "test", "loft-x", m)
		tries := 0
		c.http = &http.Client{Transport: answering(func() *http.Response {
			if tries++; tries > 10 {
				t.Fatal("it is asked without an end")
			}
			resp := &http.Response{StatusCode: 200, Header: http.Header{}, Body: io.NopCloser(bytes.NewReader(body))}
			if compressed {
				resp.Header.Set("Content-Encoding", "zstd")
			}
			return resp
		})}
		_, err := c.Fetch(context.Background(), []protocol.Blob{{Digest: digest.Of(asked), Size: int64(len(asked))}})
		for d, text := range m.blobs {
			if digest.Of(text) != d || !bytes.Equal(text, asked) {
				t.Errorf("kept: %q", text)
			}
		}
		if (err == nil) != (len(m.blobs) == 1) {
			t.Errorf("%d blobs, and %v", len(m.blobs), err)
		}
	})
}

// FuzzAnswers reads made-up answers as each of the documents that a service
// sends: what the client passes on is sound.
func FuzzAnswers(f *testing.F) {
	for kind, text := range []string{
		`{"entries":[{"key":"` + digest.Of(nil).String() + `","seconds":1e300,"bytes":-5}]}`, `{"name":"x","reads_from":["a"]}`,
		`{"commits":[{"commit":"--exec=x"}]}`, `{"seconds":{"a":-1}}`, `{"records":[{}]}`, `{"token":"x"}`, `{"digests":["` +
			digest.Of(nil).String() + `"]}`, `{"title":"x","status":400,"missing":[]}`,
	} {
		f.Add(byte(kind), 200+200*(kind/7), []byte(text))
	}
	f.Fuzz(func(t *testing.T, kind byte, status int, body []byte) {
		c := New("http://127.0.0.1:1", "test", "loft-x", newMemory())
		tries := 0
		c.http = &http.Client{Transport: answering(func() *http.Response {
			if tries++; tries > 20 {
				t.Fatal("it is asked without an end")
			}
			return &http.Response{StatusCode: 200 + (status&0xffff)%400, Header: http.Header{}, Body: io.NopCloser(bytes.NewReader(body))}
		})}
		ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
		defer cancel()
		switch kind % 7 {
		case 0:
			list, _ := c.Lookup(ctx, []protocol.Query{{Task: "a"}})
			for _, e := range list {
				if e.Key.IsZero() || e.Listing.IsZero() || e.Bytes < 0 || e.Seconds < 0 {
					t.Errorf("%+v", e)
				}
			}
		case 1:
			_, _ = c.WhoAmI(ctx)
		case 2:
			list, _ := c.LastGood(ctx, "main")
			for _, g := range list {
				if !commitID.MatchString(g.Commit) {
					t.Errorf("%q is passed on to git", g.Commit)
				}
			}
		case 3:
			known, _ := c.Parts(ctx, digest.Of(nil), []string{"a"})
			for task, s := range known {
				if !isDuration(s) {
					t.Errorf("%s: %g", task, s)
				}
			}
		case 4:
			_, _ = c.Run(ctx, "x")
		case 5:
			_, _ = c.Rotate(ctx)
		case 6:
			_, _ = c.missing(ctx, []digest.Digest{digest.Of(nil)})
		}
	})
}

// FuzzSpool reads made-up items of the spool: none is sent for somebody else.
func FuzzSpool(f *testing.F) {
	f.Add([]byte(`{"service":"http://127.0.0.1:1","repo":"test","token":{"id":1},"entry":{}}`))
	f.Add([]byte(`{"run":{"id":"../x"},"events":[{"seq":1}]}`))
	f.Fuzz(func(t *testing.T, item []byte) {
		m := newMemory()
		c := New("http://127.0.0.1:1", "test", "loft-x", m)
		c.http = &http.Client{Transport: answering(func() *http.Response {
			t.Fatal("something was sent that this token has not made")
			return nil
		})}
		m.spool["entry-x"] = item
		if bytes.Contains(item, []byte(c.identity().Secret)) {
			return
		}
		c.sendSpooled(context.Background())
	})
}
