package junit

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"time"
)

// Suite is a group of test cases to write.
type Suite struct {
	Name  string
	At    time.Time // when it began
	Took  float64   // seconds
	Cases []Case
	Log   string // shown as its standard output
}

type xmlSuites struct {
	XMLName xml.Name   `xml:"testsuites"`
	Name    string     `xml:"name,attr"`
	Time    string     `xml:"time,attr"`
	Tests   int        `xml:"tests,attr"`
	Fails   int        `xml:"failures,attr"`
	Errors  int        `xml:"errors,attr"`
	Suites  []xmlSuite `xml:"testsuite"`
}

type xmlSuite struct {
	Name    string    `xml:"name,attr"`
	Tests   int       `xml:"tests,attr"`
	Fails   int       `xml:"failures,attr"`
	Errors  int       `xml:"errors,attr"`
	Skipped int       `xml:"skipped,attr"`
	Time    string    `xml:"time,attr"`
	At      string    `xml:"timestamp,attr"`
	Cases   []xmlCase `xml:"testcase"`
	Out     *xmlText  `xml:"system-out"`
}

type xmlText struct {
	Text string `xml:",chardata"`
}

type xmlCase struct {
	Name    string     `xml:"name,attr"`
	Class   string     `xml:"classname,attr"`
	Time    string     `xml:"time,attr"`
	Skipped *xmlReason `xml:"skipped"`
	Failure *xmlReason `xml:"failure"`
}

type xmlReason struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr,omitempty"`
	Text    string `xml:",chardata"`
}

// Write returns a report with the suites. Characters that XML cannot contain are
// replaced.
func Write(name string, took float64, suites []Suite) ([]byte, error) {
	out := xmlSuites{Name: clean(name), Time: duration(took)}
	for _, s := range suites {
		x := s.xml()
		out.Tests, out.Fails = out.Tests+x.Tests, out.Fails+x.Fails
		out.Suites = append(out.Suites, x)
	}
	var b bytes.Buffer
	b.WriteString(xml.Header)
	e := xml.NewEncoder(&b)
	e.Indent("", "  ")
	if err := e.Encode(out); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}

func (s Suite) xml() xmlSuite {
	x := xmlSuite{Name: clean(s.Name), Tests: len(s.Cases), Time: duration(s.Took), At: s.At.UTC().Format("2006-01-02T15:04:05")}
	for _, c := range s.Cases {
		y := xmlCase{Name: clean(c.Name), Class: x.Name, Time: duration(c.Seconds)}
		first, _, _ := strings.Cut(c.Message, "\n")
		reason := &xmlReason{Message: clean(first), Text: clean(c.Message)}
		switch c.Result {
		case Failed:
			x.Fails++
			reason.Type = "failed"
			y.Failure = reason
		case Skipped:
			x.Skipped++
			reason.Text = ""
			y.Skipped = reason
		}
		x.Cases = append(x.Cases, y)
	}
	if s.Log != "" {
		x.Out = &xmlText{clean(s.Log)}
	}
	return x
}

func duration(seconds float64) string { return fmt.Sprintf("%.3f", max(seconds, 0)) }

// clean replaces what XML 1.0 (section 2.2) does not allow as a character.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t', r == '\n', r == '\r', r >= 0x20 && r <= 0xD7FF, r >= 0xE000 && r <= 0xFFFC, r >= 0x10000 && r <= 0x10FFFF:
			return r
		}
		return '\uFFFC'
	}, s)
}
