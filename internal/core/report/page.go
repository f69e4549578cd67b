package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/key"
)

//go:embed page.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Funcs(template.FuncMap{
		"seconds": amount.Seconds, "bytes": size, "mark": mark, "join": strings.Join, "loud": isLoud,
	}).Parse(pageText))
})

// pageData is what the page shows.
type pageData struct {
	Run
	Totals  []total
	Loud    []Task // the others needed no work
	Quiet   []Task
	Lanes   []lane
	Width   float64
	Height  float64
	Ticks   []tick
	Reasons []reason
	Failed  []Task
}

type total struct {
	Outcome string
	N       int
}

type lane struct {
	Name string
	Y    float64
	Bars []bar
}

type bar struct {
	Task
	X, W float64
	Text bool // the name fits
}

type tick struct {
	X    float64
	Text string
}

type reason struct{ Name, Says string }

const (
	pageWidth  = 1080.0
	laneHeight = 30.0
	nameWidth  = 70.0
	ticks      = 6
)

func page(r Run) ([]byte, error) {
	d := pageData{Run: r, Width: pageWidth}
	for _, o := range decide.Outcomes {
		n := 0
		for _, t := range r.Tasks {
			if t.Outcome == string(o) {
				n++
			}
		}
		if n > 0 {
			d.Totals = append(d.Totals, total{string(o), n})
		}
	}
	seen := map[string]bool{}
	for _, t := range r.Tasks {
		if isLoud(t.Outcome) {
			d.Loud = append(d.Loud, t)
		} else {
			d.Quiet = append(d.Quiet, t)
		}
		if t.Outcome == string(decide.Failed) {
			d.Failed = append(d.Failed, t)
		}
		seen[t.Reason] = true
	}
	for _, name := range key.Order {
		if seen[string(name)] {
			d.Reasons = append(d.Reasons, reason{string(name), key.Legend[name]})
		}
	}
	d.draw()
	var b bytes.Buffer
	err := pageTemplate().Execute(&b, d)
	return b.Bytes(), err
}

func isLoud(outcome string) bool {
	return !slices.Contains([]string{"current", "cached", "not-started"}, outcome)
}

// draw lays out the timeline.
func (d *pageData) draw() {
	blocks := lay(d.Tasks)
	end := max(d.Seconds, 0.01)
	slots := 0
	for _, b := range blocks {
		end, slots = max(end, b.task.At+b.task.Seconds), max(slots, b.slot)
	}
	lanes := map[int]*lane{}
	var order []int
	for _, b := range blocks {
		at, name := b.slot-1, fmt.Sprintf("slot %d", b.slot)
		if b.slot == 0 {
			at, name = slots+b.lane, "transfers"
		}
		if lanes[at] == nil {
			lanes[at] = &lane{Name: name, Y: float64(at) * laneHeight}
			order = append(order, at)
		}
		x := nameWidth + b.task.At/end*(pageWidth-nameWidth)
		w := max(2, b.seconds/end*(pageWidth-nameWidth)-1)
		lanes[at].Bars = append(lanes[at].Bars, bar{b.task, x, w, w > 7*float64(len(b.task.Address))+14})
		d.Height = max(d.Height, float64(at+1)*laneHeight)
	}
	slices.Sort(order)
	for _, at := range order {
		d.Lanes = append(d.Lanes, *lanes[at])
	}
	for i := range ticks {
		s := end * float64(i) / ticks
		d.Ticks = append(d.Ticks, tick{nameWidth + s/end*(pageWidth-nameWidth), amount.Seconds(s)})
	}
}

func size(n int64) string {
	for _, u := range []struct {
		name string
		n    float64
	}{{"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}} {
		if float64(n) >= u.n {
			return fmt.Sprintf("%.3g %s", float64(n)/u.n, u.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}

// mark returns the shape of an outcome, in a square of 12.
func mark(outcome string) template.HTML {
	paths := map[string]string{
		"current":  `<circle cx="6" cy="6" r="3.4" class="fill"/>`,
		"cached":   `<circle cx="6" cy="6" r="3.2"/>`,
		"restored": `<path d="M2 6.2v4h8v-4M6 8V1.6M3.6 4 6 1.6 8.4 4"/>`,
		"fetched":  `<path d="M6 1.2v7M3 5.4l3 3 3-3M1.6 10.8h8.8"/>`,
		"ran":      `<path d="M3 1.8 10 6l-7 4.2z" class="fill"/>`,
		"failed":   `<path d="m2.4 2.4 7.2 7.2m0-7.2-7.2 7.2"/>`,
	}
	name, shape := outcome, paths[outcome]
	if shape == "" {
		name, shape = "blocked", `<path d="M3.4 2v8M8.6 2v8"/>`
	}
	// Both are from the lists above, never from a record.
	return template.HTML(
		`<svg class="mark o-` + name + `" width="12" height="12" viewBox="0 0 12 12" aria-hidden="true">` + shape + `</svg>`,
	)
}

// Kinds are the outcomes that have a colour of their own.
func (pageData) Kinds() []string {
	return []string{"current", "cached", "restored", "fetched", "ran", "failed", "blocked"}
}

// list is a table of tasks.
type list struct {
	Name  string
	Tasks []Task
}

// Lists are the tables of tasks.
func (d pageData) Lists() []list {
	return []list{{"Tasks", d.Loud}, {"Tasks that needed no work", d.Quiet}}
}
