package remote

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"net/http"
	"testing"

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
