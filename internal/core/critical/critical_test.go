package critical_test

import (
	"slices"
	"testing"

	"grayloft.example/grayloft/internal/core/critical"
)

func TestThePathGoesThroughTasksThatDidNoWork(t *testing.T) {
	tasks := map[string]critical.Span{
		"rates":  {At: 0, Seconds: 4, Worked: true},
		"tides":  {At: 0, Seconds: 9, Worked: true},
		"fares":  {At: 4, Seconds: 0, Dependencies: []string{"rates", "tides"}}, // current
		"bundle": {At: 9, Seconds: 2, Worked: true, Dependencies: []string{"fares"}},
		"lint":   {At: 0, Seconds: 10, Worked: true},
		"docs":   {At: 3, Seconds: 1, Worked: true, Dependencies: []string{"rates"}},
	}
	if got := critical.Path(tasks); !slices.Equal(got, []string{"tides", "bundle"}) {
		t.Error(got)
	}
}

func TestWithoutWorkOrWithACycleThePathEnds(t *testing.T) {
	if got := critical.Path(map[string]critical.Span{"a": {}}); len(got) != 0 {
		t.Error(got)
	}
	cycle := map[string]critical.Span{
		"a": {At: 1, Seconds: 1, Worked: true, Dependencies: []string{"b"}},
		"b": {At: 0, Seconds: 1, Worked: true, Dependencies: []string{"a", "gone"}},
	}
	if got := critical.Path(cycle); !slices.Equal(got, []string{"b", "a"}) {
		t.Error(got)
	}
}
