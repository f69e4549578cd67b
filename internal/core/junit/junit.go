// Package junit reads and writes test reports in the JUnit XML format, as the
// widely used schema junit-10.xsd describes it: testsuites, testsuite, testcase,
// with failure, error and skipped. It takes and returns bytes and values; it does
// not touch files.
package junit

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Limits of what is read from one report.
const (
	MaxBytes   = 32 << 20 // of a report
	MaxCases   = 20_000   // in a report
	MaxName    = 500      // bytes of the name of a case
	MaxMessage = 2000     // bytes of a message
	maxDepth   = 64       // nested elements
)

// Result is how a test case ended.
type Result string

// The results of a test case.
const (
	Passed  Result = "passed"
	Failed  Result = "failed"
	Skipped Result = "skipped"
)

// Case is one test case.
type Case struct {
	Name    string  `json:"name"` // with its class, if it has one: class.name
	Result  Result  `json:"result"`
	Seconds float64 `json:"seconds"`
	Message string  `json:"message,omitempty"` // of a failure, or why it was skipped
}

// Parse returns the test cases of a report, in its order. Names and messages
// that are too long are cut. The error says what is wrong with the file.
func Parse(text []byte) ([]Case, error) {
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("it has %d bytes; at most %d are read", len(text), MaxBytes)
	}
	p := parser{d: xml.NewDecoder(bytes.NewReader(text))}
	p.d.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("its encoding is %s, but only UTF-8 is read", charset)
	}
	return p.all()
}

type parser struct {
	d     *xml.Decoder
	depth int
	root  string
	cases []Case
	open  *Case  // the case that is being read
	into  string // the element of the case that is being read
	text  strings.Builder
}

func (p *parser) all() ([]Case, error) {
	for {
		token, err := p.d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if err := p.token(token); err != nil {
			return nil, err
		}
	}
	if p.root == "" {
		return nil, errors.New("it is empty")
	}
	return p.cases, nil
}

func (p *parser) token(token xml.Token) error {
	switch token := token.(type) {
	case xml.StartElement:
		return p.start(token)
	case xml.EndElement:
		p.end(token.Name.Local)
	case xml.CharData:
		if p.into != "" && p.text.Len() < MaxMessage {
			p.text.Write(token)
		}
	}
	return nil
}

func (p *parser) start(e xml.StartElement) error {
	if p.depth++; p.depth > maxDepth {
		return fmt.Errorf("its elements are nested more than %d deep", maxDepth)
	}
	name := e.Name.Local
	if p.root == "" {
		if p.root = name; name != "testsuites" && name != "testsuite" {
			return fmt.Errorf("its first element is <%s>, not <testsuites> or <testsuite>", name)
		}
	}
	switch {
	case name == "testcase":
		if len(p.cases) >= MaxCases {
			return fmt.Errorf("it has more than %d test cases", MaxCases)
		}
		p.open = newCase(e)
	case p.open == nil:
	case name == "failure" || name == "error":
		p.open.Result, p.into = Failed, name
		p.message(e)
	case name == "skipped" && p.open.Result == Passed:
		p.open.Result, p.into = Skipped, name
		p.message(e)
	}
	return nil
}

func (p *parser) message(e xml.StartElement) {
	p.text.Reset()
	if m := attribute(e, "message"); m != "" && p.open.Message == "" {
		p.open.Message = m
	}
}

func (p *parser) end(name string) {
	p.depth--
	switch {
	case p.open != nil && name == "testcase":
		p.open.Message = cut(strings.TrimSpace(p.open.Message), MaxMessage)
		p.cases = append(p.cases, *p.open)
		p.open = nil
	case p.open != nil && name == p.into:
		if text := strings.TrimSpace(p.text.String()); text != "" && !strings.Contains(text, p.open.Message) {
			p.open.Message += "\n" + text
		} else if text != "" {
			p.open.Message = text
		}
		p.into = ""
	}
}

func newCase(e xml.StartElement) *Case {
	name := attribute(e, "name")
	if class := attribute(e, "classname"); class != "" && class != name {
		name = class + "." + name
	}
	seconds, err := strconv.ParseFloat(strings.ReplaceAll(attribute(e, "time"), ",", ""), 64)
	if err != nil || !(seconds >= 0 && seconds < 1e7) {
		seconds = 0 // unknown
	}
	return &Case{Name: cut(name, MaxName), Result: Passed, Seconds: seconds}
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name && a.Name.Space == "" {
			return a.Value
		}
	}
	return ""
}

// cut shortens a text to at most n bytes, at a whole character.
func cut(s string, n int) string {
	if len(s) <= n {
		return s
	}
	for n--; n > 0 && !utf8.RuneStart(s[n]); n-- {
	}
	return s[:n] + "…"
}
