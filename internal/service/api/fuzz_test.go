package api

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
)

// FuzzBodies reads made-up bodies as each of the documents that a client sends:
// what is accepted is within the bounds, and can be stored as JSON again.
func FuzzBodies(f *testing.F) {
	gin.SetMode(gin.ReleaseMode)
	for kind, text := range []string{
		`{"tasks":[{"task":"build@a","key":"` + digest.Of(nil).String() + `"}]}`, `{"digests":[]}`, `{"size":1,"pieces":[]}`,
		`{"id":"run-00000001","requested":["a"],"jobs":3,"started":"2026-01-01T00:00:00Z"}`,
		`{"events":[{"seq":1,"finish":{"ok":true,"totals":{"ran":1}}},{"seq":2,"task":{"outcome":"ran","made_by":null}},{"seq":3,"start":{}}]}`,
		`{"key":"` + digest.Of(nil).String() + `","task":"t","refs":[],"made_by":{"name":"x"}}`, `{"tasks":["a"]}`, `{"token":"x"}`,
	} {
		f.Add(byte(kind), []byte(text))
	}
	s := &Server{Log: slog.New(slog.NewTextHandler(io.Discard, nil)), metrics: newMetrics(), limits: newLimits(Limits{})}
	f.Fuzz(func(t *testing.T, kind byte, body []byte) {
		c, _ := gin.CreateTestContext(httptest.NewRecorder())
		c.Request = httptest.NewRequest("POST", "/", bytes.NewReader(body))
		c.Request.Header.Set("Content-Type", "application/json")
		var err error
		var in any
		switch kind % 8 {
		case 0:
			in = &protocol.Lookup{}
		case 1:
			in = &protocol.Digests{}
		case 2:
			in = &protocol.Assembly{}
		case 3:
			in = &protocol.Run{}
		case 4:
			in = &protocol.Events{}
		case 5:
			in = &protocol.Entry{}
		case 6:
			in = &protocol.PartsQuestion{}
		case 7:
			in = &struct{ Token string }{}
		}
		if !s.decode(c, largeBody, in) {
			if c.Writer.Status() < 400 || c.Writer.Status() >= 500 {
				t.Fatalf("a body is refused with status %d", c.Writer.Status())
			}
			return
		}
		switch v := in.(type) {
		case *protocol.Run:
			err = bounds.Run(*v)
		case *protocol.Entry:
			err = bounds.Entry(*v)
		case *protocol.Events:
			for _, e := range v.Events {
				err = errors.Join(err, bounds.Event(e))
			}
		}
		if err != nil {
			return
		}
		text, err := json.Marshal(in)
		if err != nil || bytes.Contains(text, []byte(`\u0000`)) && (kind%8 == 3 || kind%8 == 5) {
			t.Errorf("%v: %s", err, text)
		}
	})
}

// FuzzPackFromAClient reads made-up packs: no member is larger than allowed, nor
// all together, and none has a form that expands.
func FuzzPackFromAClient(f *testing.F) {
	gin.SetMode(gin.ReleaseMode)
	text := []byte("a member")
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	_ = tw.WriteHeader(&tar.Header{Name: digest.Of(text).String(), Size: int64(len(text)), Mode: 0o444, Format: tar.FormatUSTAR})
	_, _ = tw.Write(text)
	tw.Close()
	enc, _ := zstd.NewWriter(nil)
	f.Add(b.Bytes(), false)
	f.Add(enc.EncodeAll(b.Bytes(), nil), true)
	f.Fuzz(func(t *testing.T, body []byte, compressed bool) {
		c, _ := gin.CreateTestContext(httptest.NewRecorder())
		c.Request = httptest.NewRequest(http.MethodPost, "/", bytes.NewReader(body))
		if compressed {
			c.Request.Header.Set("Content-Encoding", "zstd")
		}
		p, done, err := openPack(c)
		if err != nil {
			return
		}
		defer done()
		total := int64(0)
		for {
			d, size, err := p.Next()
			if err != nil {
				return
			}
			text, err := io.ReadAll(&checked{r: p, h: digest.New(), want: d, left: size})
			if err == nil && (digest.Of(text) != d || int64(len(text)) != size) {
				t.Fatal("a member with another digest or size is accepted")
			}
			if total += size; size > protocol.PackedBlob || total > protocol.MaxPack {
				t.Fatalf("a member of %d bytes, %d in all", size, total)
			}
			if err != nil && !errors.Is(err, errMismatch) {
				return
			}
		}
	})
}
