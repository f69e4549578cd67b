package tasklog

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

func TestLinesKeepTheirTimes(t *testing.T) {
	now := time.Unix(0, 0)
	var live []string
	l := New(func() time.Time { return now }, func(line string) { live = append(live, line) })
	for _, w := range []struct {
		after time.Duration
		text  string
	}{{0, "compiling\nlink"}, {1500 * time.Millisecond, "ing\n"}, {time.Second, "\n\ttabbed"}} {
		now = now.Add(w.after)
		if n, err := l.Write([]byte(w.text)); n != len(w.text) || err != nil {
			t.Fatal(n, err)
		}
	}
	kept := l.Bytes()
	if want := "grayloft-log 1\n0\tcompiling\n0\tlinking\n2500\t\n2500\t\ttabbed\n"; string(kept) != want {
		t.Errorf("kept %q", kept)
	}
	lines := Parse(kept)
	if len(lines) != 4 || lines[1].Text != "linking" || lines[3].At != 2500*time.Millisecond || lines[3].Text != "\ttabbed" {
		t.Errorf("read back as %v", lines)
	}
	if got := strings.Join(live, "|"); got != "compiling|linking||\ttabbed" {
		t.Errorf("live %q", got)
	}
}

func TestOfALogThatGrowsTooLongBothEndsAreKept(t *testing.T) {
	l := New(time.Now, nil)
	const each, lines = 100, 3 * Max / 100
	for i := range lines {
		fmt.Fprintf(l, "%-*d\n", each-1, i)
	}
	_, _ = l.Write([]byte(strings.Repeat("y", 4<<20) + "the end")) // one line
	kept := l.Bytes()
	got := Parse(kept)
	number := func(line Line) int { n, _ := strconv.Atoi(strings.TrimSpace(line.Text)); return n }
	if last := got[len(got)-1].Text; len(kept) > Max+1<<10 || number(got[0]) != 0 || !strings.HasSuffix(last, "the end") {
		t.Errorf("%d bytes, from %.80q to %.80q", len(kept), got[0].Text, last)
	}
	gap := slices.IndexFunc(got, func(line Line) bool { return strings.Contains(line.Text, "left out") })
	if gap < 0 {
		t.Fatal("it does not say that lines are missing")
	}
	var left int
	if _, err := fmt.Sscanf(got[gap].Text, "[Gray Loft left out %d lines here: it keeps the first and the last 8 MB of a log]", &left); err != nil {
		t.Errorf("%q: %v", got[gap].Text, err)
	}
	if before, after := number(got[gap-1]), number(got[gap+1]); before != gap-1 || after != before+left+1 {
		t.Errorf("line %d, %d left out, line %d", before, left, after)
	}
	if !bytes.Equal(kept, l.Bytes()) {
		t.Error("asked again, it answers something else")
	}
}

func TestALogOfJustUnderTheLimitIsWhole(t *testing.T) {
	l := New(time.Now, nil)
	line := strings.Repeat("x", 997) + "\n"
	n := (Max - 1<<20) / 1000
	for range n {
		_, _ = l.Write([]byte(line))
	}
	if got := Parse(l.Bytes()); len(got) != n {
		t.Errorf("%d of %d lines", len(got), n)
	}
}

func TestASecretIsMaskedWhereALongLineIsDivided(t *testing.T) {
	const secret = "the-harbour-key"
	for before := longestLine - 20; before <= longestLine+1; before++ {
		l := New(time.Now, nil)
		l.Mask = []string{secret}
		text := strings.Repeat("x", before) + secret + strings.Repeat("z", longestLine)
		for chunk := range slices.Chunk([]byte(text), 1<<15+7) {
			_, _ = l.Write(chunk)
		}
		all := ""
		for _, line := range Parse(l.Bytes()) {
			all += line.Text
		}
		if want := strings.Replace(text, secret, Masked, 1); all != want {
			t.Fatalf("with %d bytes before it: %d of %d bytes, masked: %v", before, len(all), len(want), strings.Contains(all, Masked))
		}
	}
}

func TestOtherTextIsParsedAsLines(t *testing.T) {
	lines := Parse([]byte("plain\n12\ttext"))
	if len(lines) != 2 || lines[0].Text != "plain" || lines[1].Text != "12\ttext" || lines[1].At != 0 {
		t.Errorf("%v", lines)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("grayloft-log 1\n0\tx\n"))
	f.Fuzz(func(t *testing.T, b []byte) { Parse(b) })
}
