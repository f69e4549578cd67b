package money

import "testing"

func TestRounding(t *testing.T) {
	for _, c := range []struct {
		a    Amount
		by   int64
		want Amount
	}{{1005, 500, 503}, {1000, 333, 333}, {1, 499, 0}, {1, 500, 1}} {
		if got := c.a.Times(c.by); got != c.want {
			t.Errorf("%v times %d‰ became %v, want %v", c.a, c.by, got, c.want)
		}
	}
}

func TestText(t *testing.T) {
	if s := Amount(-1205).String(); s != "-£12.05" {
		t.Error(s)
	}
}
