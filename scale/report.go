package main

import (
	_ "embed"
	"errors"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"
	"text/template"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/plotutil"
	"gonum.org/v1/plot/vg"

	"grayloft.example/grayloft/internal/core/company"
)

//go:embed report.md.tmpl
var reportText string

// What the service of the report runs on.
const (
	serviceCores  = 4
	databaseCores = 4
	lineMB        = 125.0 // a second: 1 Gbit/s
)

// report is what the text says.
type report struct {
	*simulated
	Load                        *loads // nil: none was made
	People, Tasks, Runners      int
	ServiceCores, DatabaseCores int
	LineMB                      float64
	Overheads                   company.Overheads
	Regions                     []company.Region
	SweepPeople                 int
	SweepDays, Workdays         int
}

// Peak returns the span of the last day with the most work for the service.
func (r *report) Peak() (peak company.Span) {
	first := (workdays - 1) * int(daySeconds/spanSeconds)
	for _, s := range r.Day.Spans[first:min(len(r.Day.Spans), first+int(daySeconds/spanSeconds))] {
		if s.Load(r.Costs.Service) > peak.Load(r.Costs.Service) {
			peak = *s
		}
	}
	return peak
}

// limit is something that can be full.
type limit struct {
	What     string
	Used, Of float64
	Unit     string
}

// Part returns how much of it the peak uses.
func (l limit) Part() float64 { return l.Used / l.Of }

// Limits are what can be full at the peak.
func (r *report) Limits() []limit {
	p := r.Peak()
	var in, out int64
	for n := range p.In {
		in, out = in+p.In[n], out+p.Out[n]
	}
	return []limit{
		{"processor of the service", p.Load(r.Costs.Service) / spanSeconds, serviceCores, "cores"},
		{"processor of the database", p.Load(r.Costs.Database) / spanSeconds, databaseCores, "cores"},
		{"line of the service, the busier direction", float64(max(in, out)) / 1e6 / spanSeconds, lineMB, "MB/s"},
	}
}

// First is the limit that is reached first.
func (r *report) First() limit {
	first := r.Limits()[0]
	for _, l := range r.Limits() {
		if l.Part() > first.Part() {
			first = l
		}
	}
	return first
}

// kindLine is a kind of request on the reported day.
type kindLine struct {
	Name              string
	Requests          int64
	Units             float64
	Service, Database float64 // seconds
}

// Kinds are the requests of the last day.
func (r *report) Kinds() (out []kindLine) {
	day := r.Day.Last()
	for k, a := range day.Asks {
		s, d := r.Costs.Service[company.Names[k]], r.Costs.Database[company.Names[k]]
		n := float64(a.Requests)
		out = append(out, kindLine{company.Names[k], a.Requests, a.Units, s.Request*n + s.Unit*a.Units, d.Request*n + d.Unit*a.Units})
	}
	return out
}

// Week sums the working days of a simulation.
func (r *report) Week(p played) company.Totals { return p.Sum(0, workdays*daySeconds).Totals }

var functions = template.FuncMap{
	"percent": func(x float64) string { return fmt.Sprintf("%.0f %%", 100*x) },
	"signed":  func(x float64) string { return fmt.Sprintf("%+.1f %%", 100*x) },
	"num":     significant,
	"gb":      func(n int64) string { return significant(float64(n)/1e9) + " GB" },
	"hours":   func(s float64) string { return significant(s/3600) + " h" },
	"exp":     math.Exp,
	"cores":   func(l loaded) float64 { return (l.Service + l.Database) / l.Seconds },
	"perSecond": func(l loaded) float64 {
		sum := int64(0)
		for _, n := range l.Requests {
			sum += n
		}
		return float64(sum) / l.Seconds
	},
	"part":  func(a, b float64) float64 { return a / b },
	"float": func(n int64) float64 { return float64(n) },
	"int":   func(n int) float64 { return float64(n) },
}

// significant returns a number with three digits at most that matter, and groups of three.
func significant(x float64) string {
	if x == 0 {
		return "0"
	}
	digits := max(0, 2-int(math.Floor(math.Log10(math.Abs(x)))))
	text := fmt.Sprintf("%.*f", digits, x)
	if strings.Contains(text, ".") {
		return strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}

// write writes docs/scale.md and its pictures.
func (s *simulated) write(dir, docs string) error {
	r := &report{
		simulated: s, People: people, Tasks: tasks, Runners: runners, ServiceCores: serviceCores, DatabaseCores: databaseCores, LineMB: lineMB,
		Overheads: overheads, Regions: regions, SweepPeople: people / 10, SweepDays: sweepDays, Workdays: workdays,
	}
	if err := writeJSON(filepath.Join(dir, "peak.json"), r.Peak().Asks); err != nil {
		return err
	}
	var l loads
	if err := readJSON(filepath.Join(dir, "load.json"), &l); err == nil {
		r.Load = &l
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	t, err := template.New("report").Funcs(functions).Parse(reportText)
	if err != nil {
		return err
	}
	var out strings.Builder
	if err := t.Execute(&out, r); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(docs, "scale"), 0o755); err != nil {
		return err
	}
	if err := r.draw(filepath.Join(docs, "scale")); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(docs, "scale.md"), []byte(out.String()), 0o644)
}

// Colours of look.md, in the light theme.
var colours = []color.Color{
	color.RGBA{
		0xa9,
		0x57,
		0x2b,
		255,
	}, color.RGBA{0x2f, 0x6f, 0x8f, 255}, color.RGBA{0x3d, 0x7f, 0x74, 255}, color.RGBA{0x93, 0xa6, 0xb1, 255},
	color.RGBA{0xb3, 0x36, 0x3b, 255},
}

// curve is a line of a plot.
type curve struct {
	name   string
	points plotter.XYs
	marked bool
}

// picture draws curves into a file.
func picture(file, x, y string, curves ...curve) error {
	plot.DefaultFont = font.Font{Typeface: "Liberation", Variant: "Sans"}
	p := plot.New()
	p.X.Label.Text, p.Y.Label.Text = x, y
	p.Y.Min = 0
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.Padding = vg.Points(2)
	p.Add(plotter.NewGrid())
	for n, c := range curves {
		line, points, err := plotter.NewLinePoints(c.points)
		if err != nil {
			return err
		}
		line.Color, line.Width = colours[n], vg.Points(1.5)
		line.Dashes = plotutil.Dashes(n)
		points.Color, points.Shape = colours[n], plotutil.Shape(n)
		p.Add(line)
		if c.marked {
			p.Add(points)
		}
		p.Legend.Add(c.name, line)
	}
	p.Y.Max *= 1.2 // room for the legend
	return p.Save(20*vg.Centimeter, 9*vg.Centimeter, file)
}

func (r *report) draw(dir string) error {
	load := func(costs map[string]company.Cost) (out plotter.XYs) {
		return r.overDay(func(s *company.Span) float64 { return s.Load(costs) / spanSeconds })
	}
	err := picture(filepath.Join(dir, "load.png"), "hour of the day, in the first region", "cores in use",
		curve{"service", load(r.Costs.Service), false}, curve{"database", load(r.Costs.Database), false})
	var lines []curve
	for n, region := range regions {
		lines = append(lines, curve{region.Name, r.overDay(func(s *company.Span) float64 {
			return float64(s.In[n]+s.Out[n]) / 1e6 / spanSeconds
		}), false})
	}
	err = errors.Join(
		err,
		picture(filepath.Join(dir, "bytes.png"), "hour of the day, in the first region", "MB a second, to and from the service", lines...),
	)
	hits := func(list []point) (out plotter.XYs) {
		for _, p := range list {
			out = append(out, plotter.XY{X: p.X, Y: 100 * p.Hits})
		}
		return out
	}
	err = errors.Join(
		err,
		picture(filepath.Join(dir, "keep.png"), "days that an unused result is kept", "% of the results that were sought",
			curve{"found", hits(r.Keep), true}),
	)
	return errors.Join(err, picture(filepath.Join(dir, "quota.png"), "quota in GB", "% of the results that were sought",
		curve{"found", hits(r.Quota), true}))
}

// each is how many spans a point of a plot stands for.
const each = 3

// overDay returns a figure over the reported day.
func (r *report) overDay(of func(*company.Span) float64) (out plotter.XYs) {
	first := (workdays - 1) * int(daySeconds/spanSeconds)
	for n := first; n+each <= min(len(r.Day.Spans), first+int(daySeconds/spanSeconds)); n += each {
		sum := 0.0
		for _, s := range r.Day.Spans[n : n+each] {
			sum += of(s) / each
		}
		out = append(out, plotter.XY{X: float64(n-first) * spanSeconds / 3600, Y: sum})
	}
	return out
}
