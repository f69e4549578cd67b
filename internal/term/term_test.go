package term

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/charmbracelet/lipgloss"
)

func screen() (*Screen, *bytes.Buffer) {
	var out bytes.Buffer
	return &Screen{Out: &out, Err: &out, Style: lipgloss.NewRenderer(&out)}, &out
}

func TestTablesHaveAllTheirRows(t *testing.T) {
	sc, out := screen()
	sc.Table([]string{"task", "by"}, [][]string{{"build@fares", "x"}, {"test@fares", "y"}})
	if got := out.String(); got != "task         by\nbuild@fares  x\ntest@fares   y\n" {
		t.Errorf("%q", got)
	}
	out.Reset()
	sc.Grid([][]string{{"run", "build@fares", "2 s"}, {"may run", "test@fares", "10 s"}})
	if got := out.String(); got != "  run      build@fares   2 s\n  may run  test@fares   10 s\n" {
		t.Errorf("%q", got)
	}
}

// Whatever a task prints, or another machine sends, must not control the
// terminal.
func TestControlCharactersAreNotPrinted(t *testing.T) {
	sc, _ := screen()
	for _, text := range []string{"\x1b[2Jgone", "a\rb", "bell\a", "\u202eright to left"} {
		if got := Printable(text); strings.ContainsAny(got, "\x1b\r\a") {
			t.Errorf("Printable: %q", got)
		}
		if got := sc.PrintableLog(text); strings.ContainsAny(got, "\x1b\a") {
			t.Errorf("PrintableLog: %q", got)
		}
	}
}

func TestNumbersAreReadable(t *testing.T) {
	for seconds, want := range map[float64]string{0: "0 ms", 0.016: "16 ms", 0.25: "250 ms", 3.26: "3.3 s", 75: "1 m 15 s", 7500: "2 h 05 m"} {
		if got := Seconds(seconds); got != want {
			t.Errorf("%g seconds are shown as %q, want %q", seconds, got, want)
		}
	}
}

// JSON goes to terminals as well.
func TestJSONDoesNotControlTheTerminal(t *testing.T) {
	in := "a\u202eb\u009b31mc\u2066 \x1b[0m ø \U0001f6a2"
	var out bytes.Buffer
	if err := (&Screen{Out: &out}).JSON(map[string]string{"name": in}); err != nil {
		t.Fatal(err)
	}
	if strings.ContainsFunc(strings.ReplaceAll(out.String(), "\n", ""), isControl) {
		t.Errorf("%q", out.String())
	}
	var back map[string]string
	if err := json.Unmarshal(out.Bytes(), &back); err != nil || back["name"] != in {
		t.Errorf("%q became %q, %v", in, back["name"], err)
	}
}
