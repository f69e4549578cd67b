package engine

import (
	"fmt"
	"sync"
	"sync/atomic"

	"grayloft.example/grayloft/internal/machine/checkout"
)

// notices passes sentences on to the person, without repetition.
type notices struct {
	warn      func(sentence string)
	said      sync.Map     // subjects of sentences that are said once
	displaced atomic.Int64 // tasks whose files were displaced
}

// once passes a sentence on, unless one about the same subject was.
func (n *notices) once(about, sentence string) {
	if _, said := n.said.LoadOrStore(about, true); !said {
		n.warn(sentence)
	}
}

// maxDisplacedWarnings limits for how many tasks displaced files are named.
const maxDisplacedWarnings = 5

// reportDisplaced passes on which files of a task were displaced.
func (n *notices) reportDisplaced(sentence string) {
	if n.displaced.Add(1) <= maxDisplacedWarnings {
		n.warn(sentence)
	}
}

// summarise says how many more tasks had displaced files.
func (n *notices) summarise(run string) {
	if more := n.displaced.Load() - maxDisplacedWarnings; more > 0 {
		n.warn(fmt.Sprintf("the outputs of %d more tasks were moved to %s/displaced/%s", more, checkout.Dir, run))
	}
}
