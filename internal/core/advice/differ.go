package advice

import (
	"errors"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
)

// Difference is an ingredient that depends on the machine: a probe, an
// environment variable, or the platform.
type Difference struct {
	Kind string // probe, environment or platform
	Name string // of the probe or the variable
}

// errNotNeeded is the answer to a question for a manifest: that files differ is
// enough to know.
var errNotNeeded = errors.New("manifests are not compared")

// OnlyDifference returns the ingredient in which two executions differ, if it is
// one only and depends on the machine.
func OnlyDifference(a, b *key.Ingredients) (d Difference, ok bool) {
	changes := key.Compare(a, b, func(digest.Digest) ([]byte, error) { return nil, errNotNeeded })
	if len(changes) != 1 {
		return d, false
	}
	switch c := changes[0]; {
	case c.Reason == key.Probe:
		return Difference{"probe", c.What}, true
	case c.Reason == key.Environment:
		return Difference{"environment", c.What}, true
	case c.Reason == key.Declaration && c.What == "platform":
		return Difference{"platform", ""}, true
	}
	return d, false
}
