package checkout

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"

	"grayloft.example/grayloft/internal/core/digest"
)

// readRecord reads a line of the journal, without its checksum.
func readRecord(line []byte) (Record, bool) {
	if r, ok := readUsual(line); ok {
		return r, true
	}
	var r Record
	ok := json.Unmarshal(line, &r) == nil && r.Version == recordVersion && r.Task != ""
	return r, ok
}

// usualStart is how a line of [State.Note] begins.
var usualStart = fmt.Appendf(nil, `{"v":%d,"task":"`, recordVersion)

// taskOf returns the task of a line without reading all of it; nothing if the line does not begin
// as usual.
func taskOf(line []byte) []byte {
	s := scanner{line, true}
	s.skip(usualStart)
	return s.text()
}

// readUsual reads a line whose fields are in the order in which [State.Note] writes them, and
// whose texts have no escapes. The journal is read by every run; a decoder of any JSON takes three
// times as long.
func readUsual(line []byte) (r Record, ok bool) {
	s := scanner{line, true}
	s.skip(usualStart)
	r.Version, r.Task = recordVersion, string(s.text())
	for _, f := range []struct {
		before string
		to     *digest.Digest
	}{
		{`,"key":"`, &r.Key}, {`,"ingredients":"`, &r.Ingredients}, {`,"listing":"`, &r.Listing}, {`,"log":"`, &r.Log},
	} {
		s.skip([]byte(f.before))
		s.ok = s.ok && f.to.UnmarshalText(s.text()) == nil
	}
	r.Failed = s.has(`,"failed":true`)
	s.skip([]byte(`,"run":"`))
	r.Run = string(s.text())
	s.skip([]byte(`,"at":"`))
	s.ok = s.ok && r.At.UnmarshalText(s.text()) == nil
	s.skip([]byte(`,"took":`))
	r.Took = s.number()
	if s.has(`,"here":`) {
		r.Here = s.number()
	}
	r.Fetch = s.has(`,"fetch":true`)
	return r, s.ok && string(s.left) == "}" && r.Task != ""
}

// scanner reads a line from the left. After the first failure nothing more is read.
type scanner struct {
	left []byte
	ok   bool
}

// has reads a text, if it is next.
func (s *scanner) has(text string) bool {
	rest, ok := bytes.CutPrefix(s.left, []byte(text))
	if ok {
		s.left = rest
	}
	return ok
}

func (s *scanner) skip(text []byte) {
	var ok bool
	s.left, ok = bytes.CutPrefix(s.left, text)
	s.ok = s.ok && ok
}

// text reads until a quote. It fails if there is an escape or none.
func (s *scanner) text() []byte {
	text, rest, ok := bytes.Cut(s.left, []byte(`"`))
	if !s.ok || !ok || bytes.IndexByte(text, '\\') >= 0 {
		s.ok = false
		return nil
	}
	s.left = rest
	return text
}

func (s *scanner) number() float64 {
	n := 0
	for n < len(s.left) && s.left[n] != ',' && s.left[n] != '}' {
		n++
	}
	x, err := strconv.ParseFloat(string(s.left[:n]), 64)
	s.left, s.ok = s.left[n:], s.ok && err == nil
	return x
}
