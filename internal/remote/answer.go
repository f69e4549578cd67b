package remote

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"

	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/protocol"
)

// Bounds of a JSON answer: its values take many times the memory of their text,
// so they are counted before they are read.
const (
	mostObjects = 200_000
	mostValues  = 4_000_000
)

var errAnswer = errors.New("its answer is larger than any that a Gray Loft service gives")

// smallAnswer is how many bytes an answer may have that lists neither entries nor
// the tasks of a run.
const smallAnswer = 2 << 20

// longestAnswer returns how many bytes the answer that is read into out may have.
func longestAnswer(out any) int {
	switch out.(type) {
	case *protocol.LookupAnswer, *protocol.RunDetail, *protocol.PartsAnswer:
		return protocol.MaxAnswer
	}
	return smallAnswer
}

// decodeAnswer reads a JSON answer within bounds. Without out it is only read.
func decodeAnswer(r io.Reader, out any) error {
	limit := longestAnswer(out)
	text, err := io.ReadAll(io.LimitReader(r, int64(limit)+1))
	switch {
	case err != nil:
		return err
	case len(text) > limit, bytes.Count(text, []byte("{")) > mostObjects, bytes.Count(text, []byte(",")) > mostValues,
		bytes.Count(text, []byte("[")) > mostObjects:
		return errAnswer
	case out == nil:
		return nil
	}
	if err := json.Unmarshal(text, out); err != nil {
		return fmt.Errorf("its answer cannot be read: %w", err)
	}
	return nil
}

// decodeCompact reads an answer in CBOR within bounds.
func decodeCompact(r io.Reader, out any) error {
	answer, ok := out.(*protocol.LookupAnswer)
	if !ok {
		return fmt.Errorf("its answer is in CBOR, which was not asked for")
	}
	limit := longestAnswer(out)
	text, err := io.ReadAll(io.LimitReader(r, int64(limit)+1))
	switch {
	case err != nil:
		return err
	case len(text) > limit:
		return errAnswer
	}
	*answer, err = protocol.ReadCompactLookup(text)
	return err
}

// soundEntries leaves out entries that no service files.
func soundEntries(list []protocol.Entry) []protocol.Entry {
	return slices.DeleteFunc(list, func(e protocol.Entry) bool {
		return e.Key.IsZero() || e.Listing.IsZero() || e.Ingredients.IsZero() || e.Bytes < 0 || e.Bytes > mostBytes ||
			!isDuration(e.Seconds) || len(e.MadeBy.Name)+len(e.MadeBy.Host)+len(e.MadeBy.Place)+len(e.MadeBy.Run) > 4*maxName ||
			len(e.Task) > maxName*16
	})
}

const (
	maxName   = 256                   // bytes of a name, as the service allows
	mostBytes = listing.MaxFile << 20 // of the outputs of one task
)

func isDuration(seconds float64) bool {
	return seconds >= 0 && seconds < 1e9 && !math.IsNaN(seconds)
}

// commitID is the only form in which the name of a commit is passed on to git.
var commitID = pattern.New("^[0-9a-f]{40}([0-9a-f]{24})?$")

func soundCommits(list []protocol.GoodCommit) []protocol.GoodCommit {
	return slices.DeleteFunc(list, func(g protocol.GoodCommit) bool { return !commitID.MatchString(g.Commit) })
}

// soundSeconds leaves out what is not a duration.
func soundSeconds(known map[string]float64) map[string]float64 {
	for task, s := range known {
		if !isDuration(s) {
			delete(known, task)
		}
	}
	return known
}
