package company

// Kind is a kind of request to the service.
type Kind int

// The kinds. Units are what the cost of a request grows with.
const (
	Lookup Kind = iota // units: keys
	Fetch              // units: MB of outputs
	Share              // sending outputs and filing the result; units: MB of outputs
	Claim              // making, renewing, ending, asking about one
	Record             // of a run; units: records of tasks
	Kinds              // how many there are
)

// Names are the names of the kinds.
var Names = [Kinds]string{"lookup", "fetch", "share", "claim", "record"}

// Ask is how often a kind of request was made, and how many units these had.
type Ask struct {
	Requests int64
	Units    float64
}

// Cost is what a kind of request takes of a processor, in seconds.
type Cost struct {
	Request float64 `json:"request"`
	Unit    float64 `json:"unit"`
}

// Costs are measured on a real service and its database.
type Costs struct {
	Service  map[string]Cost `json:"service"`
	Database map[string]Cost `json:"database"`
}

// Span is what happened in one stretch of time.
type Span struct {
	Asks   [Kinds]Ask
	In     []int64 // bytes to each region
	Again  []int64 // those of them that somebody in the region had fetched before
	Out    []int64 // bytes from each region
	Totals Totals
}

// Load returns the seconds of processor time that the requests of a span take.
func (s *Span) Load(costs map[string]Cost) float64 {
	sum := 0.0
	for k, a := range s.Asks {
		c := costs[Names[k]]
		sum += c.Request*float64(a.Requests) + c.Unit*a.Units
	}
	return sum
}

// Demand is what happened, by stretches of time of equal length.
type Demand struct {
	Each    float64 // seconds of a span
	Regions int
	Spans   []*Span
}

// span returns the stretch at a time.
func (d *Demand) span(at float64) *Span {
	for n := int(at / d.Each); n >= len(d.Spans); {
		d.Spans = append(d.Spans, &Span{In: make([]int64, d.Regions), Again: make([]int64, d.Regions), Out: make([]int64, d.Regions)})
	}
	return d.Spans[int(at/d.Each)]
}

// Sum returns the spans from a time to another as one.
func (d *Demand) Sum(from, to float64) Span {
	sum := Span{In: make([]int64, d.Regions), Again: make([]int64, d.Regions), Out: make([]int64, d.Regions)}
	for n := int(from / d.Each); n < min(len(d.Spans), int(to/d.Each)); n++ {
		s := d.Spans[n]
		for k := range s.Asks {
			sum.Asks[k].Requests += s.Asks[k].Requests
			sum.Asks[k].Units += s.Asks[k].Units
		}
		for r := range s.In {
			sum.In[r] += s.In[r]
			sum.Again[r] += s.Again[r]
			sum.Out[r] += s.Out[r]
		}
		sum.Totals.add(s.Totals)
	}
	return sum
}

func (w *World) ask(k Kind, units float64) {
	a := &w.Demand.span(w.now).Asks[k]
	a.Requests++
	a.Units += units
}

// Totals add up runs, by the time at which they began.
type Totals struct {
	Runs     int
	Seconds  float64 // that runs took
	Tasks    map[string]int
	Work     float64 // seconds of tasks that ran
	Saved    float64 // seconds that the reused tasks would have run
	In, Out  int64   // bytes
	Waits    int     // for a claimed task
	Results  int     // waits that ended with a result
	Sought   int     // shareable tasks that this machine had no result for
	Supplied int     // those of them that the shared cache had
}

func (t *Totals) add(o Totals) {
	t.Runs += o.Runs
	t.Seconds += o.Seconds
	t.Work += o.Work
	t.Saved += o.Saved
	t.In += o.In
	t.Out += o.Out
	t.Waits += o.Waits
	t.Results += o.Results
	t.Sought += o.Sought
	t.Supplied += o.Supplied
	for outcome, n := range o.Tasks {
		t.count(outcome, n)
	}
}

func (t *Totals) count(outcome string, n int) {
	if t.Tasks == nil {
		t.Tasks = map[string]int{}
	}
	t.Tasks[outcome] += n
}

// HitRate returns the part of what was sought in the shared cache that it had.
func (t Totals) HitRate() float64 { return float64(t.Supplied) / max(1, float64(t.Sought)) }
