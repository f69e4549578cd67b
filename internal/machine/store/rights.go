package store

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/statefile"
	"grayloft.example/grayloft/internal/protocol"
)

// rightsLast is how long a service need not be asked what a token may read of this cache.
const rightsLast = 30 * 24 * time.Hour

// rightsFile is named after the token, which cannot be told from the name.
func (s *Store) rightsFile(service, repo, token string) string {
	return filepath.Join(s.dir, "rights", digest.Of([]byte(service + "\x00" + repo + "\x00" + token)).String()[:32])
}

// Rights returns what a service last said about a token for a repository. Ok is false if it
// has not for a while, or the token has expired.
func (s *Store) Rights(service, repo, token string) (self protocol.Self, ok bool) {
	name := s.rightsFile(service, repo, token)
	info, err := os.Stat(name)
	if err != nil || time.Since(info.ModTime()) > rightsLast {
		return protocol.Self{}, false
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return protocol.Self{}, false
	}
	text, whole := statefile.OpenLine(data)
	if !whole || json.Unmarshal(text, &self) != nil || self.Repo != repo || self.Expires != nil && self.Expires.Before(time.Now()) {
		return protocol.Self{}, false
	}
	return self, true
}

// KeepRights notes for later runs what a service says about a token; nil: that it no longer
// knows it. Failing to do so does no harm.
func (s *Store) KeepRights(service, repo, token string, self *protocol.Self) {
	name := s.rightsFile(service, repo, token)
	if self == nil {
		_ = os.Remove(name)
		return
	}
	text, err := json.Marshal(self)
	if err != nil {
		return
	}
	data := statefile.SealLine(text)
	if have, err := os.ReadFile(name); err == nil && bytes.Equal(have, data) {
		s.used(name)
		return
	}
	_ = s.writeFile(name, data)
}
