package store

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

func TestRightsAreOfATokenForAWhile(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	const at, token = "http://service.example", "loft-0123456789"
	is := func(want bool, why string) {
		t.Helper()
		self, ok := s.Rights(at, "r", token)
		if ok != want || ok && self.WritesTo != "person/brenna" {
			t.Errorf("%s: %+v, %v", why, self, ok)
		}
	}
	self := protocol.Self{Repo: "r", WritesTo: "person/brenna", ReadsFrom: []string{"trusted"}}
	is(false, "nothing is known")
	s.KeepRights(at, "r", token, &self)
	is(true, "they are known")
	for _, other := range [][3]string{{"http://other.example", "r", token}, {at, "s", token}, {at, "r", "loft-other"}} {
		if _, ok := s.Rights(other[0], other[1], other[2]); ok {
			t.Errorf("%q has the rights of another", other)
		}
	}
	file := s.rightsFile(at, "r", token)
	if text, err := os.ReadFile(file); err != nil || strings.Contains(string(text)+filepath.Base(file), "0123456789") {
		t.Errorf("the token is in %s: %v", file, err)
	}
	old := time.Now().Add(-rightsLast - time.Hour)
	if err := os.Chtimes(file, old, old); err != nil {
		t.Fatal(err)
	}
	is(false, "the service was last asked long ago")
	s.KeepRights(at, "r", token, &self)
	is(true, "it says the same again")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), "person/brenna", "person/brennb", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	is(false, "the file was changed")
	past := time.Now().Add(-time.Minute)
	expired := self
	expired.Expires = &past
	s.KeepRights(at, "r", token, &expired)
	is(false, "the token has expired")
	s.KeepRights(at, "r", token, &self)
	s.KeepRights(at, "r", token, nil)
	is(false, "the service no longer knows the token")
}
