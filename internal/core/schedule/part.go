package schedule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
)

// MaxParts limits how many runners share a run.
const MaxParts = 1000

// Part is a runner's share of a run: the second of five.
type Part struct {
	Which int // from 1
	Of    int
}

// ParsePart reads "2/5".
func ParsePart(text string) (Part, error) {
	a, b, ok := strings.Cut(text, "/")
	which, errA := strconv.Atoi(a)
	of, errB := strconv.Atoi(b)
	if !ok || errA != nil || errB != nil || which < 1 || which > of || of > MaxParts {
		return Part{}, fmt.Errorf("%q is not valid: write it like 2/5, the second of five", text)
	}
	return Part{which, of}, nil
}

// DivisionID identifies what is divided, so that runners agree on the durations
// with which they divide it: these tasks, of this commit, into so many parts.
func DivisionID(picked []*graph.Task, commit string, of int) digest.Digest {
	h := digest.New()
	fmt.Fprintf(h, "parts %d of %q\n", of, commit)
	var names []string
	for _, t := range picked {
		names = append(names, t.Addr())
	}
	slices.Sort(names)
	for _, n := range names {
		fmt.Fprintf(h, "%q\n", n)
	}
	return digest.From(h)
}
