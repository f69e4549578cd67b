package listing

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

var update = flag.Bool("update", false, "write the golden files again")

func sample() List {
	l := List{
		{Kind: File, Size: 5, Digest: digest.Of([]byte("hello")), Path: "gen/a b.txt"},
		{Kind: Executable, Size: 2, Digest: digest.Of([]byte("ok")), Path: "gen/tool"},
		{Kind: Link, Size: 6, Target: "a b.tx", Path: "gen/link"},
		{Kind: EmptyDir, Path: "gen/empty"},
		{Kind: File, Size: 0, Digest: digest.Of(nil), Path: "gen/new\nline\tand \\ ü"},
	}
	l.Sort()
	return l
}

func TestFormatIsTheGoldenOne(t *testing.T) {
	const file = "testdata/listing.golden"
	got := sample().Encode()
	if *update {
		if err := os.WriteFile(file, got, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Errorf("the format changed:\n%s\nwant\n%s", got, want)
	}
	back, err := Parse(want)
	if err != nil || !reflect.DeepEqual(back, sample()) {
		t.Errorf("read back as %v, %v", back, err)
	}
}

func TestHostileListingsAreRefused(t *testing.T) {
	d := digest.Of([]byte("x")).String()
	f := func(path string) string { return "f\t1\t" + d + "\t" + path + "\n" }
	for name, body := range map[string]string{
		"a path that leads out":      f("../x"),
		"one that leads out within":  f("a/../../x"),
		"an absolute path":           f("/etc/passwd"),
		"git's directory":            f(".git/hooks/pre-commit"),
		"git's directory, folded":    f(".GIT/config"),
		"our own directory":          f("sub/.grayloft/journal"),
		"a NUL byte":                 f(`a\x00b`),
		"an empty segment":           f("a//b"),
		"a child of a file":          f("a") + f("a/b"),
		"names that fold together":   f("README") + f("readme"),
		"directories that fold":      f("Src/a") + f("src/b"),
		"a size that is no number":   "f\t-1\t" + d + "\ta\n",
		"a size with leading zeros":  "f\t01\t" + d + "\ta\n",
		"a digest that is none":      "f\t1\tabc\ta\n",
		"a digest of zeros":          "f\t1\t" + strings.Repeat("0", 64) + "\ta\n",
		"an unknown kind":            "p\t0\t-\ta\n",
		"a tree":                     "t\t0\t" + d + "\ta\n",
		"rows out of order":          f("b") + f("a"),
		"the same path twice":        f("a") + f("a"),
		"a row that is cut off":      strings.TrimSuffix(f("a"), "\n"),
		"an escape that is not due":  f(`\x61`),
		"an unfinished escape":       f(`a\x`),
		"a link of another length":   "l\t9\tb\ta\n",
		"a path that is not UTF-8":   f("a\xff"),
		"a directory with a size":    "d\t4\t-\ta\n",
		"an escaped control in caps": f(`\x0A`),
	} {
		if l, err := Parse([]byte(listingHead + body)); err == nil {
			t.Errorf("%s: taken as %v", name, l)
		}
	}
	if _, err := Parse([]byte("grayloft-listing 2\n")); err == nil || !strings.Contains(err.Error(), "newer version") {
		t.Errorf("another version: %v", err)
	}
}

func TestLinksThatLeadOutAreRefused(t *testing.T) {
	for target, ok := range map[string]bool{
		"b": true, "../../libs/x": true, "../../../x": false, "/etc": false, "../../.git/config": false, "..": true,
	} {
		l := List{{Kind: Link, Size: int64(len(target)), Target: target, Path: "gen/l"}}
		if err := l.CheckLinks("libs"); (err == nil) != ok {
			t.Errorf("link to %q from libs/gen: %v", target, err)
		}
	}
}

// For two random sets of files, the manifests expand to the original lists, and
// comparing them finds exactly the differences without reading what is equal.
func TestManifestsCompareLikeTheirLists(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	make_ := func() List {
		seen := map[string]bool{}
		var l List
		for range 1 + rnd.IntN(12) {
			var segs []string
			for range 1 + rnd.IntN(3) {
				segs = append(segs, string(rune('a'+rnd.IntN(3)))+strings.Repeat("-", rnd.IntN(2)))
			}
			p := strings.Join(segs, "/")
			clash := false
			for q := range seen {
				clash = clash || q == p || strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/")
			}
			if clash {
				continue
			}
			seen[p] = true
			l = append(l, Row{Kind: File, Size: 1, Digest: digest.Of([]byte{byte(rnd.IntN(2))}), Path: p})
		}
		l.Sort()
		return l
	}
	for range 500 {
		a, b := make_(), make_()
		ra, ta := a.Manifests()
		rb, tb := b.Manifests()
		read := func(d digest.Digest) ([]byte, error) {
			if text, ok := ta[d]; ok {
				return text, nil
			}
			return tb[d], nil
		}
		back, err := Expand(ra, func(d digest.Digest) ([]byte, error) { return ta[d], nil })
		if err != nil || !reflect.DeepEqual(back, a) {
			t.Fatalf("expanded to %v, %v; want %v", back, err, a)
		}
		diffs, err := Compare(ra, rb, read)
		if err != nil {
			t.Fatal(err)
		}
		want := a.Differences(b)
		if len(diffs) != len(want) {
			t.Fatalf("%d differences, want %d:\n%v\n%v", len(diffs), len(want), diffs, want)
		}
		for i := range diffs {
			if diffs[i].Path != want[i].Path || (diffs[i].Before == nil) != (want[i].Before == nil) {
				t.Fatalf("difference %d: %v, want %v", i, diffs[i], want[i])
			}
		}
	}
}

func TestComparingSkipsEqualParts(t *testing.T) {
	row := func(p string, c byte) Row { return Row{Kind: File, Size: 1, Digest: digest.Of([]byte{c}), Path: p} }
	a, ta := List{row("changed/x", 1), row("same/deep/y", 1)}.Manifests()
	b, tb := List{row("changed/x", 2), row("same/deep/y", 1)}.Manifests()
	diffs, err := Compare(a, b, func(d digest.Digest) ([]byte, error) {
		if _, both := ta[d]; both && tb[d] != nil {
			return nil, errors.New("read what both share")
		}
		return append(ta[d], tb[d]...), nil
	})
	if err != nil || len(diffs) != 1 || diffs[0].Path != "changed/x" {
		t.Errorf("%v, %v", diffs, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(sample().Encode())
	f.Add([]byte(listingHead))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := Parse(b)
		if err == nil && !bytes.Equal(l.Encode(), b) {
			t.Errorf("taken in a form that is not the only one: %q", b)
		}
	})
}

// A long listing is decoded in parts, which makes no difference.
func TestLongListingsAreReadLikeShortOnes(t *testing.T) {
	var rows List
	for i := range 9000 {
		text := fmt.Append(nil, i)
		rows = append(rows, Row{Kind: File, Size: int64(len(text)), Digest: digest.Of(text), Path: fmt.Sprintf("out/%05d", i)})
	}
	text := rows.Encode()
	got, err := Parse(text)
	if err != nil || !reflect.DeepEqual(got, rows) {
		t.Fatalf("%d rows, %v", len(got), err)
	}
	lines := bytes.SplitAfter(text, []byte("\n"))
	for at := 1; at < 9000; at += 511 { // the head is line 0
		bad := slices.Clone(lines)
		bad[at], bad[at+1] = bad[at+1], bad[at]
		if _, err := Parse(bytes.Join(bad, nil)); err == nil || !strings.Contains(err.Error(), fmt.Sprintf("row %d: ", at+1)) {
			t.Errorf("row %d is out of order: %v", at+1, err)
		}
		bad = slices.Clone(lines)
		bad[at] = []byte("f\tmany\tx\ty\n")
		if _, err := Parse(bytes.Join(bad, nil)); err == nil || !strings.Contains(err.Error(), fmt.Sprintf("row %d: ", at)) {
			t.Errorf("row %d is wrong: %v", at, err)
		}
	}
	if _, err := Parse(text[:len(text)-1]); err == nil || !strings.Contains(err.Error(), "row 9000 is incomplete") {
		t.Errorf("cut off: %v", err)
	}
}
