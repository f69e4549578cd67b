package store

import (
	"encoding/json"
	"os"
	"path/filepath"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
)

func (s *Store) lineFile(service string) string {
	return filepath.Join(s.dir, "lines", digest.Of([]byte(service)).String()[:32])
}

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
