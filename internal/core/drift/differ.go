package drift

import (
	"bytes"
	"fmt"
	"strconv"

	"grayloft.example/grayloft/internal/core/listing"
)

// Range is a difference between two contents: bytes From up to To of the first,
// and the bytes of the second that replace them.
type Range struct {
	From   int64  `json:"from"`
	To     int64  `json:"to"`
	Before string `json:"before"` // a few bytes before the difference, the same in both, quoted
	First  string `json:"first"`  // the bytes of the first, as far as they are shown, quoted
	Second string `json:"second"` // the same for the second
}

// nearby is how many equal bytes may lie between two differences that are shown
// as one.
const nearby = 8

// Ranges returns the differences between two contents, at most max of them, and
// their total number. For contents of different lengths the common start and
// end are removed, and the rest is one range.
func Ranges(a, b []byte, max int) (out []Range, count int) {
	if len(a) != len(b) {
		from := 0
		for from < len(a) && from < len(b) && a[from] == b[from] {
			from++
		}
		tail := 0
		for tail < len(a)-from && tail < len(b)-from && a[len(a)-1-tail] == b[len(b)-1-tail] {
			tail++
		}
		return []Range{rangeOf(a, b, from, len(a)-tail, len(b)-tail)}, 1
	}
	for i := 0; i < len(a); i++ {
		if a[i] == b[i] {
			continue
		}
		end := i + 1
		for j := end; j < len(a) && j-end < nearby; j++ {
			if a[j] != b[j] {
				end = j + 1
			}
		}
		if count++; count <= max {
			out = append(out, rangeOf(a, b, i, end, end))
		}
		i = end
	}
	return out, count
}

func rangeOf(a, b []byte, from, toA, toB int) Range {
	return Range{int64(from), int64(toA), excerpt(a[max(0, from-context):from]), excerpt(a[from:toA]), excerpt(b[from:toB])}
}

// context is how many bytes before a difference are shown.
const context = 24

// shown is how many bytes of a difference are shown.
const shown = 48

func excerpt(p []byte) string {
	more := ""
	if len(p) > shown {
		more = fmt.Sprintf(" and %d bytes more", len(p)-shown)
		p = p[:shown]
	}
	return strconv.QuoteToGraphic(string(p)) + more
}

// Difference is an output that differs between two runs.
type Difference struct {
	Path   string  `json:"path"` // from the project's directory
	Kind   string  `json:"what"` // in words
	Ranges []Range `json:"ranges"`
	Count  int     `json:"count"` // number of ranges, including those not shown
}

// maxRanges limits how many ranges are shown per file.
const maxRanges = 5

// Differ compares the outputs of two runs. Read returns the content of an
// output.
func Differ(first, second listing.List, read func(listing.Row) ([]byte, error)) ([]Difference, error) {
	other := map[string]listing.Row{}
	for _, r := range second {
		other[r.Path] = r
	}
	var out []Difference
	for _, a := range first {
		b, ok := other[a.Path]
		delete(other, a.Path)
		switch {
		case !ok:
			out = append(out, Difference{Path: a.Path, Kind: "only in the first run"})
		case a == b:
		case a.Kind != b.Kind && !(a.Digest == b.Digest):
			out = append(out, Difference{Path: a.Path, Kind: "different kinds of file"})
		case a.Kind.Mode()&0o100 != b.Kind.Mode()&0o100:
			out = append(out, Difference{Path: a.Path, Kind: "executable in only one run"})
		case a.Kind != b.Kind:
			out = append(out, Difference{Path: a.Path, Kind: "readable by others in only one run"})
		case a.Kind == listing.Link:
			out = append(out, Difference{Path: a.Path, Kind: fmt.Sprintf("a link to %s, then to %s", a.Target, b.Target)})
		default:
			d, err := differ(a, b, read)
			if err != nil {
				return nil, err
			}
			out = append(out, d)
		}
	}
	for _, b := range second {
		if _, ok := other[b.Path]; ok {
			out = append(out, Difference{Path: b.Path, Kind: "only in the second run"})
		}
	}
	return out, nil
}

func differ(a, b listing.Row, read func(listing.Row) ([]byte, error)) (Difference, error) {
	x, err := read(a)
	if err != nil {
		return Difference{}, err
	}
	y, err := read(b)
	if err != nil {
		return Difference{}, err
	}
	d := Difference{Path: a.Path, Kind: fmt.Sprintf("%d bytes", a.Size)}
	if a.Size != b.Size {
		d.Kind = fmt.Sprintf("%d bytes, then %d", a.Size, b.Size)
	}
	d.Ranges, d.Count = Ranges(x, y, maxRanges)
	if d.Count == 0 && !bytes.Equal(x, y) {
		return d, fmt.Errorf("comparing %s: the contents differ, but no difference was found", a.Path)
	}
	return d, nil
}
