package junit_test

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/junit"
)

func TestCasesAreRead(t *testing.T) {
	got, err := junit.Parse([]byte(`<?xml version="1.0" encoding="UTF-8"?>
<testsuites><testsuite name="tides">
 <testcase classname="tides" name="TestHigh" time="0.25"/>
 <testcase classname="tides" name="TestLow" time="1,200.5"><failure message="too low" type="x">low_test.go:4: too low by 2 m</failure></testcase>
 <testsuite><testcase name="TestFog"><skipped message="no fog today"/></testcase></testsuite>
 <testcase name="TestWind" time="soon"><error>panic: calm</error><system-out>noise</system-out></testcase>
</testsuite></testsuites>`))
	want := []junit.Case{
		{Name: "tides.TestHigh", Result: junit.Passed, Seconds: 0.25},
		{Name: "tides.TestLow", Result: junit.Failed, Seconds: 1200.5, Message: "low_test.go:4: too low by 2 m"},
		{Name: "TestFog", Result: junit.Skipped, Message: "no fog today"},
		{Name: "TestWind", Result: junit.Failed, Message: "panic: calm"},
	}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%v\n%+v", err, got)
	}
}

func TestWhatIsNoReportIsRefused(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "empty",
		"<html></html>":         "<html>",
		"<testsuite><testcase>": "unexpected EOF",
		"plain text":            "empty",
		"<testsuite>" + strings.Repeat("<a>", 100):                                       "nested",
		`<?xml version="1.0" encoding="EBCDIC"?><testsuite/>`:                            "EBCDIC",
		"<testsuite>" + strings.Repeat("<testcase/>", junit.MaxCases+1) + "</testsuite>": "more than",
	} {
		if _, err := junit.Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40s: %v, want %q", text, err, want)
		}
	}
}

func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	cases := []junit.Case{
		{Name: "build@fares", Result: junit.Passed, Seconds: 1.5},
		{Name: "test@fares", Result: junit.Failed, Seconds: 0.25, Message: "exit 1\nwith <angle> & \x1b[31mcolour"},
		{Name: "lint@fares", Result: junit.Skipped, Message: "depends on test@fares"},
	}
	text, err := junit.Write("run", 2, []junit.Suite{{Name: "fares", At: time.Unix(0, 0), Took: 2, Cases: cases, Log: "a\x00b"}})
	if err != nil {
		t.Fatal(err)
	}
	got, err := junit.Parse(text)
	if err != nil || len(got) != 3 || got[1].Result != junit.Failed || !strings.Contains(got[1].Message, "<angle> & ") || got[2].Result != junit.Skipped {
		t.Errorf("%v %+v\n%s", err, got, text)
	}
	if strings.ContainsAny(string(text), "\x00\x1b") || !strings.Contains(string(text), `tests="3" failures="1" errors="0" skipped="1"`) {
		t.Errorf("%s", text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`<testsuite><testcase name="a"><failure message="m">t</failure></testcase></testsuite>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		cases, err := junit.Parse(text)
		for _, c := range cases {
			if err != nil || len(c.Name) > junit.MaxName+3 || len(c.Message) > junit.MaxMessage+3 {
				t.Errorf("%v %+v", err, c)
			}
		}
	})
}
