package api_test

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// fetched returns the names of what a fetch of blobs answers.
func (c *caller) fetched(list ...digest.Digest) (names []string) {
	c.t.Helper()
	r := tar.NewReader(bytes.NewReader(c.want(200, "POST", "/v1/test/packs/fetch", protocol.Digests{Digests: list})))
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return names
		}
		if err != nil {
			c.t.Fatal(err)
		}
		names = append(names, h.Name)
	}
}

// Clients that fetch the same results ask for the same blobs: their rows are read once. What is
// missing may come a moment later.
func TestWhereThePartsOfAPackAreIsRememberedWhenAllAreThere(t *testing.T) {
	c := newCaller(t, ci)
	first, second := c.put([]byte("the first")), digest.Of([]byte("the second"))
	if got := c.fetched(first, second); len(got) != 1 {
		t.Fatalf("of one of two blobs: %v", got)
	}
	c.put([]byte("the second"))
	if got := c.fetched(first, second); len(got) != 2 {
		t.Errorf("the second has arrived: %v", got)
	}
	if _, err := c.s.DB.Exec("DELETE FROM blobs WHERE digest = $1", second[:]); err != nil {
		t.Fatal(err)
	}
	if got := c.fetched(first, second); len(got) != 2 {
		t.Errorf("the rows were read again: %v", got)
	}
	if got := c.fetched(second, first); len(got) != 1 {
		t.Errorf("another question: %v", got)
	}
	other := &caller{t: t, s: c.s, router: c.router, token: c.s.TokenFor(t, "elsewhere", "ann", "person/ann")}
	body := protocol.Digests{Digests: []digest.Digest{first, second}}
	if status, _ := other.call("POST", "/v1/test/packs/fetch", body); status != 403 {
		t.Errorf("the token of another repository: %d", status)
	}
	elsewhere := fmt.Sprintf("/v1/%s/packs/fetch", "elsewhere")
	if pack := other.want(200, "POST", elsewhere, body); bytes.Contains(pack, []byte("the first")) {
		t.Error("what is remembered of one repository was sent to a reader of another")
	}
}
