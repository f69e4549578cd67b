package tasklog

import (
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

func TestALogThatGrowsTooLongIsCutAndSaysSo(t *testing.T) {
	l := New(time.Now, nil)
	line := strings.Repeat("x", 1<<16) + "\n"
	for range 2 * Max / len(line) {
		_, _ = l.Write([]byte(line))
	}
	_, _ = l.Write([]byte(strings.Repeat("y", 4<<20))) // one line without an end
	kept := l.Bytes()
	lines := Parse(kept)
	if len(kept) > Max+1<<17 || !strings.Contains(lines[len(lines)-1].Text, "kept the first 16 MB") {
		t.Errorf("%d bytes, ending in %.80q", len(kept), lines[len(lines)-1].Text)
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
