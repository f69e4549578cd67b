package api_test

import (
	"bytes"
	"encoding/json"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

func TestALargeBlobIsAssembledFromItsPieces(t *testing.T) {
	c := newCaller(t, ci)
	first, second := bytes.Repeat([]byte("gull"), 1000), []byte("haven")
	whole := append(bytes.Clone(first), second...)
	at := "/v1/test/blobs/" + digest.Of(whole).String()
	in := protocol.Assembly{Size: int64(len(whole)), Pieces: []digest.Digest{digest.Of(first), digest.Of(second)}}

	c.put(first)
	var p protocol.Problem
	if err := json.Unmarshal(c.want(409, "POST", at+"/assembly", in), &p); err != nil || len(p.Missing) != 1 || p.Missing[0] != digest.Of(second) {
		t.Errorf("with one of two pieces: %+v, %v", p, err)
	}
	c.put(second)
	assemble := func(in protocol.Assembly) protocol.PackResult {
		t.Helper()
		var out protocol.PackResult
		if err := json.Unmarshal(c.want(200, "POST", at+"/assembly", in), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	for what, wrong := range map[string]protocol.Assembly{
		"too small a size": {Size: in.Size - 1, Pieces: in.Pieces},
		"too large a size": {Size: in.Size + 1, Pieces: in.Pieces},
		"a piece too many": {Size: in.Size, Pieces: append(in.Pieces[:2:2], in.Pieces[0])},
	} {
		if status, _ := c.call("POST", at+"/assembly", wrong); status != 422 {
			t.Errorf("%s: status %d", what, status)
		}
	}
	for what, wrong := range map[string]protocol.Assembly{
		"in the wrong order": {Size: in.Size, Pieces: []digest.Digest{in.Pieces[1], in.Pieces[0]}},
	} {
		if got := assemble(wrong); got.OK || got.Error == "" {
			t.Errorf("%s: %+v", what, got)
		}
		if status, _ := c.call("GET", at, nil); status != 404 {
			t.Errorf("%s: the blob exists, status %d", what, status)
		}
	}
	if got := assemble(in); !got.OK {
		t.Errorf("%+v", got)
	}
	if got := c.want(200, "GET", at, nil); !bytes.Equal(got, whole) {
		t.Errorf("%d bytes came back, want %d", len(got), len(whole))
	}
	for what, bad := range map[string]protocol.Assembly{
		"no size": {Pieces: in.Pieces}, "larger than a blob may be": {Size: protocol.MaxBlob + 1, Pieces: in.Pieces},
		"too many pieces": {Size: in.Size, Pieces: make([]digest.Digest, protocol.MaxPieces+1)},
	} {
		if status, _ := c.call("POST", at+"/assembly", bad); status != 413 {
			t.Errorf("%s: status %d", what, status)
		}
	}
}
