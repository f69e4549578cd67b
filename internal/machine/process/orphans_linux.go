package process

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

func adoptOrphans() { _ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// awaitExit waits until the process has ended and leaves it to be reaped.
func awaitExit(pid int) bool {
	for {
		err := unix.Waitid(unix.P_PID, pid, nil, unix.WEXITED|unix.WNOWAIT, nil)
		if !errors.Is(err, syscall.EINTR) {
			return err == nil
		}
	}
}

// endRest ends every process that carries the mark, and reaps those that came
// to us. New ones may start while we look, so it looks until there is none.
func endRest(mark string) {
	want := []byte(MarkVar + "=" + mark)
	for range 100 {
		found := false
		for _, pid := range processes() {
			env, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "environ"))
			if err != nil || !hasVar(env, want) {
				continue
			}
			found = true
			_ = syscall.Kill(pid, syscall.SIGKILL)
			if parentOf(pid) == os.Getpid() {
				_, _ = syscall.Wait4(pid, nil, 0, nil)
			}
		}
		if !found {
			return
		}
	}
}

func hasVar(env, want []byte) bool {
	for kv := range bytes.SplitSeq(env, []byte{0}) {
		if bytes.Equal(kv, want) {
			return true
		}
	}
	return false
}

func processes() []int {
	d, err := os.Open("/proc")
	if err != nil {
		return nil
	}
	defer d.Close()
	names, _ := d.Readdirnames(-1)
	var out []int
	for _, n := range names {
		if pid, err := strconv.Atoi(n); err == nil && pid != os.Getpid() {
			out = append(out, pid)
		}
	}
	return out
}

func parentOf(pid int) int {
	stat, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	if err != nil {
		return 0
	}
	s := string(stat)
	f := strings.Fields(s[strings.LastIndexByte(s, ')')+1:])
	if len(f) < 2 {
		return 0
	}
	ppid, _ := strconv.Atoi(f[1])
	return ppid
}
