package term

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/charmbracelet/lipgloss"
	"golang.org/x/sys/unix"
)

// onTerminal returns what is printed on a screen with so many columns (pty(7)).
func onTerminal(t *testing.T, columns int, print func(sc *Screen)) string {
	t.Helper()
	control, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Skip("there are no terminals here: ", err)
	}
	defer control.Close()
	number, err := unix.IoctlGetInt(int(control.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(control.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
	tty, err := os.OpenFile(fmt.Sprint("/dev/pts/", number), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := unix.IoctlSetWinsize(int(tty.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: uint16(columns)}); err != nil {
		t.Fatal(err)
	}
	out := make(chan string)
	go func() {
		var text strings.Builder
		buf := make([]byte, 4096)
		for {
			n, err := control.Read(buf)
			text.Write(buf[:n])
			if err != nil { // EIO: nobody has the other end open any more
				out <- strings.ReplaceAll(text.String(), "\r", "")
				return
			}
		}
	}()
	print(&Screen{Out: tty, Err: tty, Style: lipgloss.NewRenderer(&strings.Builder{})})
	tty.Close()
	return <-out
}

func TestTheNameOfARowIsWholeOnANarrowTerminal(t *testing.T) {
	head := []string{"task", "time spent", "executed", "hit rate", "same outputs"}
	rows := [][]string{{"package@passenger-web", "1 m 02 s", "12", "75 %", "–"}, {"test@fares", "2 s", "1", "100 %", "–"}}
	for _, c := range []struct {
		columns int
		whole   bool
	}{{100, true}, {60, true}, {48, true}, {30, false}} {
		text := onTerminal(t, c.columns, func(sc *Screen) { sc.Table(head, rows) })
		for line := range strings.Lines(text) {
			if n := lipgloss.Width(line); n > c.columns {
				t.Errorf("%d columns: a line has %d: %q", c.columns, n, line)
			}
		}
		if strings.Contains(text, "package@passenger-web ") != c.whole {
			t.Errorf("%d columns:\n%s", c.columns, text)
		}
		if c.whole && !strings.Contains(text, "75 %") {
			t.Errorf("%d columns: a number is clipped, where a heading could be:\n%s", c.columns, text)
		}
	}
	text := onTerminal(t, 40, func(sc *Screen) {
		sc.Table([]string{"task", "by"}, [][]string{{"test@fares", "libs/fares/rates/summer.csv → rates@fares → build@fares"}})
	})
	if !strings.Contains(text, "test@fares  libs/") || !strings.Contains(text, "…") {
		t.Errorf("the widest column is clipped:\n%s", text)
	}
}
