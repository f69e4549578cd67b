package decide

import (
	"math/rand/v2"
	"slices"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
)

var (
	now = digest.Of([]byte("now"))
	old = digest.Of([]byte("old"))
)

// world answers the questions of [Next] as the machine would.
type world struct {
	rules         Rules
	pending       []string
	last          *Last
	onDisk        bool
	local, shared []Offer
	changes       []key.Change
	line          Line
}

// decide asks until there is a decision, and returns the questions as well.
func (w world) decide(t *testing.T) (Decision, []Question) {
	t.Helper()
	f := &Facts{Rules: w.rules, Key: now, Pending: w.pending, Last: w.last, Line: w.line}
	var asked []Question
	for range 20 {
		s := Next(f)
		switch s.Ask {
		case Nothing:
			return s.Decision, asked
		case AskDisk:
			f.Disk = Say(w.onDisk)
		case AskLocal:
			f.Local = unexamined(w.local)
		case AskShared:
			f.Shared = unexamined(w.shared)
		case AskChanges:
			f.Changes = Changes{Asked: true, Known: w.changes != nil, List: w.changes}
		case AskOffer:
			list, from := f.Local.List, w.local
			if s.Offer.Shared {
				list, from = f.Shared.List, w.shared
			}
			list[s.Offer.Index] = from[s.Offer.Index]
		}
		asked = append(asked, s.Ask)
	}
	t.Fatalf("no decision after %v", asked)
	return Decision{}, nil
}

func unexamined(list []Offer) Offers { return Offers{Asked: true, List: make([]Offer, len(list))} }

func TestDecisions(t *testing.T) {
	same, other, failed := &Last{Key: now}, &Last{Key: old, Seconds: 2}, &Last{Key: now, Failed: true}
	usable, here := Offer{State: Usable, Missing: 40e6}, Offer{State: Usable}
	file := key.Change{Reason: key.Files, What: "a", How: "changed"}
	upstream := key.Change{Reason: key.Upstream, What: "gen@lib", How: "changed"}
	wanted := Rules{Wanted: true, CanFetch: true, MayCompare: true}
	for name, c := range map[string]struct {
		w      world
		want   Outcome
		reason key.Reason
	}{
		"--no-reuse":                           {world{rules: Rules{NoReuse: true}, last: same, onDisk: true}, Ran, key.NoReuse},
		"reuse = never":                        {world{rules: Rules{ReuseNever: true}, last: same, onDisk: true}, Ran, key.ReuseNever},
		"no declared writes":                   {world{rules: Rules{NoWrites: "a@b"}}, Ran, key.NoWrites},
		"blobs that turned out to be missing":  {world{rules: Rules{Evicted: true}, last: same, onDisk: true}, Ran, key.Evicted},
		"right outputs of the same key":        {world{last: same, onDisk: true}, Current, ""},
		"altered outputs and no copy":          {world{last: same}, Ran, key.Outputs},
		"altered outputs and a copy":           {world{rules: wanted, last: same, local: []Offer{here}}, Restored, ""},
		"a failure with the same key":          {world{last: failed}, Ran, key.FailedBefore},
		"never seen":                           {world{}, Ran, key.New},
		"a dependency could not be kept":       {world{rules: Rules{Unkept: "a@b"}, last: same, onDisk: true, local: []Offer{here}}, Ran, key.Unkept},
		"its outputs could not be kept":        {world{last: &Last{Key: old, Unkept: "a pipe"}, changes: []key.Change{}}, Ran, key.Unkept},
		"not kept before, and a changed file":  {world{last: &Last{Key: old, Unkept: "a pipe"}, changes: []key.Change{file}}, Ran, key.Files},
		"an entry here, not wanted":            {world{local: []Offer{here}}, Cached, ""},
		"an entry here, on the disk":           {world{local: []Offer{{State: Usable, OnDisk: true}}}, Current, ""},
		"an entry here without outputs":        {world{local: []Offer{{State: Usable, OnDisk: true, Empty: true}}}, Cached, ""},
		"an entry here with missing blobs":     {world{rules: wanted, local: []Offer{usable}}, Fetched, ""},
		"the same without a service":           {world{rules: Rules{Wanted: true}, local: []Offer{usable}}, Ran, key.Evicted},
		"the same, not wanted":                 {world{local: []Offer{usable}}, Cached, ""},
		"a shared entry":                       {world{rules: wanted, shared: []Offer{usable}}, Fetched, ""},
		"a shared entry, on the disk":          {world{rules: wanted, shared: []Offer{{State: Usable, OnDisk: true}}}, Cached, ""},
		"a shared entry, not wanted":           {world{rules: Rules{CanFetch: true}, shared: []Offer{usable}}, Cached, ""},
		"running is faster":                    {world{rules: wanted, last: other, shared: []Offer{usable}, line: slow()}, Ran, key.Faster},
		"running is faster, but not allowed":   {world{rules: Rules{Wanted: true, CanFetch: true}, last: other, shared: []Offer{usable}, line: slow()}, Fetched, ""},
		"this machine's entry is never slower": {world{rules: wanted, last: other, local: []Offer{here}, line: slow()}, Restored, ""},
		"a refused entry, then a good one":     {world{rules: wanted, shared: []Offer{{State: Unusable}, usable}}, Fetched, ""},
		"only a refused entry":                 {world{rules: wanted, shared: []Offer{{State: Unusable}}}, Ran, key.New},
		"only a missing entry":                 {world{rules: wanted, shared: []Offer{{State: Gone}}}, Ran, key.Evicted},
		"a missing entry and a changed file":   {world{rules: wanted, last: other, changes: []key.Change{file}, shared: []Offer{{State: Gone}}}, Ran, key.Files},
		"a changed file and a dependency":      {world{last: other, changes: []key.Change{upstream, file}}, Ran, key.Files},
		"the last ingredients are not known":   {world{last: other}, Ran, key.New},
		"equal ingredients, nothing stored":    {world{last: other, changes: []key.Change{}}, Ran, key.Files},
		"an uncertain dependency":              {world{pending: []string{"gen@lib"}, last: other, changes: []key.Change{upstream}}, MayRun, ""},
		"an uncertain dependency and a file":   {world{pending: []string{"gen@lib"}, last: other, changes: []key.Change{upstream, file}}, MayRun, key.Files},
		"an uncertain dependency, never seen":  {world{pending: []string{"gen@lib"}}, MayRun, key.New},
		"uncertain, but it must run":           {world{rules: Rules{NoReuse: true}, pending: []string{"gen@lib"}}, Ran, key.NoReuse},
	} {
		d, asked := c.w.decide(t)
		if d.Outcome != c.want || d.Reason != c.reason {
			t.Errorf("%s: %s %s after %v, want %s %s", name, d.Outcome, d.Reason, asked, c.want, c.reason)
		}
	}
}

func TestNothingIsAskedThatIsNotNeeded(t *testing.T) {
	for name, c := range map[string]struct {
		w    world
		want []Question
	}{
		"a current task looks at the disk alone": {world{last: &Last{Key: now}, onDisk: true}, []Question{AskDisk}},
		"a forced run asks nothing":              {world{rules: Rules{NoReuse: true}}, nil},
		"a local entry spares the service":       {world{local: []Offer{{State: Usable}}}, []Question{AskLocal, AskOffer}},
		"a new task is not compared":             {world{}, []Question{AskLocal, AskShared}},
	} {
		if _, asked := c.w.decide(t); !slices.Equal(asked, c.want) {
			t.Errorf("%s: asked %v, want %v", name, asked, c.want)
		}
	}
}

// For random facts there is always a decision, each question is asked once, and
// the decision is consistent with the facts.
func TestRandomDecisions(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 11))
	flip := func() bool { return rnd.IntN(2) == 0 }
	offers := func() []Offer {
		out := make([]Offer, rnd.IntN(4))
		for i := range out {
			out[i] = Offer{State: OfferState(1 + rnd.IntN(3)), Empty: flip(), OnDisk: flip(), Missing: int64(rnd.IntN(3)) * 30e6}
		}
		return out
	}
	for range 20000 {
		w := world{onDisk: flip(), local: offers(), shared: offers(), rules: Rules{Wanted: flip(), CanFetch: flip(), MayCompare: flip()}}
		if flip() {
			w.last = &Last{Key: now, Failed: flip(), Seconds: float64(rnd.IntN(60))}
		}
		if flip() {
			w.line = slow()
		}
		d, asked := w.decide(t)
		seen := map[Question]int{}
		for _, q := range asked {
			seen[q]++
		}
		if seen[AskDisk] > 1 || seen[AskLocal] > 1 || seen[AskShared] > 1 || seen[AskChanges] > 1 {
			t.Fatalf("%+v: asked %v", w, asked)
		}
		switch {
		case (d.Outcome == Ran) != (d.Reason != ""):
			t.Fatalf("%+v: %+v: a reason belongs to a run", w, d)
		case d.Place && !w.rules.Wanted:
			t.Fatalf("%+v: %+v: places outputs that nobody wants", w, d)
		case d.Outcome.IsReused() && d.Offer == nil && !w.onDisk:
			t.Fatalf("%+v: %+v: reuses nothing", w, d)
		case d.Outcome == Fetched && !d.Place, d.Place && d.Tidy:
			t.Fatalf("%+v: %+v", w, d)
		}
	}
}

func TestOutputsDeliveredForADependent(t *testing.T) {
	for _, c := range []struct {
		o    Outcome
		n    int64
		can  bool
		want Outcome
	}{
		{Cached, 0, true, Restored}, {Cached, 5, true, Fetched}, {Cached, 5, false, Ran}, {Cached, 0, false, Restored}, {Ran, 5, true, Ran}, {Current, 5, false, Current},
	} {
		if got, _ := Deliverable(c.o, c.n, c.can); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}
