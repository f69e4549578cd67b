package store

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
)

func (s *Store) lineFile(service string) string {
	return filepath.Join(s.dir, "lines", digest.Of([]byte(service)).String()[:32])
}

// SilentSince is when a service was last found not to answer; zero if it was not, or answers again.
func (s *Store) SilentSince(service string) time.Time {
	info, err := os.Stat(s.lineFile(service) + silent)
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// KeepSilence notes for later runs whether a service answers. Failing to do so does no harm.
func (s *Store) KeepSilence(service string, is bool) {
	if is {
		_ = s.writeFile(s.lineFile(service)+silent, nil)
	} else {
		_ = os.Remove(s.lineFile(service) + silent)
	}
}

// silent is the end of the name of a file whose time is when a service did not answer.
const silent = ".silent"

// Line returns the measurements of the connection from this machine to a
// service.
func (s *Store) Line(service string) decide.Line {
	var l decide.Line
	data, err := os.ReadFile(s.lineFile(service))
	if err != nil || json.Unmarshal(data, &l) != nil {
		return decide.Line{}
	}
	return l
}

// KeepLine saves them for later runs. Failing to do so does no harm.
func (s *Store) KeepLine(service string, l decide.Line) {
	data, err := json.Marshal(l)
	if err != nil {
		return
	}
	_ = s.writeFile(s.lineFile(service), data)
}
