package attack

import (
	"fmt"
	"os"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// pseudoTerminal opens a pseudo terminal (pty(7)), whose other end nobody
// answers at.
func pseudoTerminal(t *testing.T) (master, slave *os.File) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		skip(t, "terminal")
	}
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err == nil {
		err = unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: 120})
	}
	if err != nil {
		t.Fatal(err)
	}
	slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { master.Close(); slave.Close() })
	return master, slave
}

// readSome returns what a terminal shows so far.
func readSome(master *os.File) string {
	fd := int(master.Fd())
	_ = unix.SetNonblock(fd, true)
	buf := make([]byte, 1<<16)
	all := ""
	for range 50 {
		n, err := unix.Read(fd, buf)
		if n > 0 {
			all += string(buf[:n])
			continue
		}
		if err != nil {
			return all
		}
		time.Sleep(time.Millisecond)
	}
	return all
}
