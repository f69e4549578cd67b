package outputs

import (
	"bytes"
	"os"

	"grayloft.example/grayloft/internal/core/needle"
	"grayloft.example/grayloft/internal/core/tasklog"
)

// secretScan searches the bytes written to it for secrets.
type secretScan struct {
	secrets []string
	tail    []byte
	found   bool
}

func (s *secretScan) Write(p []byte) (int, error) {
	if s.found || len(s.secrets) == 0 {
		return len(p), nil
	}
	longest := 0
	data := append(s.tail, p...)
	for _, text := range s.secrets {
		if len(text) >= tasklog.Shortest && bytes.Contains(data, []byte(text)) {
			s.found = true
		}
		longest = max(longest, len(text))
	}
	s.tail = bytes.Clone(data[max(0, len(data)-longest):])
	return len(p), nil
}

func rootEntries(root string) map[string]bool {
	out := map[string]bool{}
	list, _ := os.ReadDir(root)
	for _, e := range list {
		out[e.Name()] = true
	}
	return out
}

// rootScan searches the bytes written to it for the checkout's path, followed
// by the name of a file that exists there.
type rootScan struct {
	root    *needle.Needle
	entries map[string]bool
	tail    []byte
	found   bool
}

// longestName is how many bytes of a file's name after the checkout's path are looked at.
const longestName = 64

func (r *rootScan) Write(p []byte) (int, error) {
	edge := r.root.Len() + longestName
	if len(r.tail) > 0 { // what begins in the last piece
		r.search(append(r.tail, p[:min(edge, len(p))]...))
	}
	r.search(p)
	if len(p) >= edge {
		r.tail = append(r.tail[:0], p[len(p)-edge:]...)
	} else {
		r.tail = append(r.tail, p...)
		r.tail = r.tail[max(0, len(r.tail)-edge):]
	}
	return len(p), nil
}

func (r *rootScan) search(data []byte) {
	for at := 0; !r.found; {
		i := r.root.Index(data[at:])
		if i < 0 {
			return
		}
		at += i + r.root.Len()
		rest := data[at:min(at+longestName, len(data))]
		for end := len(rest); end > 0; end-- {
			if r.entries[string(rest[:end])] {
				r.found = true
			}
		}
	}
}
