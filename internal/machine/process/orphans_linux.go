package process

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

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

// endRest ends every process that carries the mark, waits until they have
// ended, and reaps those that became our children. New ones may start
// meanwhile, so it repeats until there is none.
func endRest(mark string) {
	if !orphans() {
		return
	}
	want := []byte(MarkVar + "=" + mark)
	ended := map[int]bool{}
	for look := range 1000 {
		found := false
		for _, pid := range processes() {
			env, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "environ"))
			switch {
			case err == nil && hasVar(env, want):
				_ = syscall.Kill(pid, syscall.SIGKILL)
				ended[pid] = true
				found = true
			case len(env) == 0:
				if st := statusOf(pid); st.dead {
					reap(pid, st)
				} else if ended[pid] {
					found = true // about to end
				}
			}
		}
		if !found {
			return
		}
		if look > 3 {
			time.Sleep(time.Millisecond) // the kernel does not report the end of a grandchild
		}
	}
}

// orphans tells whether any process is a child of ours that nobody waits for.
// Whatever a task left behind is a descendant of one of those: when its parent
// ends, a process becomes a child of the nearest reaper above it, which is this
// process. If the system does not list children, the answer is yes.
func orphans() bool {
	leaders.Lock()
	defer leaders.Unlock()
	list, err := adopted()
	if err != nil {
		return true
	}
	for _, pid := range list {
		if leaders.pids[pid] {
			continue
		}
		if st := statusOf(pid); st.group != syscall.Getpgrp() || st.dead || marked(pid) {
			return true
		}
	}
	return false
}

// adopted returns the children of this process's first thread. Adopted
// processes are among them: the kernel gives them to the first living thread,
// which lives as long as the process.
func adopted() ([]int, error) {
	pid := strconv.Itoa(os.Getpid())
	list, err := os.ReadFile("/proc/self/task/" + pid + "/children")
	if err != nil {
		return nil, err
	}
	var out []int
	for word := range strings.FieldsSeq(string(list)) {
		if pid, err := strconv.Atoi(word); err == nil {
			out = append(out, pid)
		}
	}
	return out, nil
}

// endStrays ends adopted processes without a mark: those that emptied their
// environment and left their session. Their task is unknown, so this waits
// until no task runs.
func endStrays() {
	for range 1000 {
		found := false
		for _, pid := range strays() {
			_ = syscall.Kill(pid, syscall.SIGKILL)
			_, _ = syscall.Wait4(pid, nil, 0, nil) // ours, and nobody else waits for it
			found = true
		}
		if !found {
			return
		}
	}
}

// strays returns our children that nobody waits for, unless a task is running.
func strays() []int {
	leaders.Lock()
	defer leaders.Unlock()
	if leaders.busy > 0 {
		return nil
	}
	list, _ := adopted()
	return slices.DeleteFunc(list, func(pid int) bool {
		st := statusOf(pid)
		return leaders.pids[pid] || st.group == syscall.Getpgrp() || st.parent != os.Getpid()
	})
}

// marked tells whether a process was started for a task of any run.
func marked(pid int) bool {
	env, _ := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "environ"))
	return bytes.Contains(env, []byte(MarkVar+"="))
}

// reap reaps a dead process that we adopted when its parent ended. Our other
// children are left alone, because somebody waits for them: the leaders of
// tasks, and processes in our own group.
func reap(pid int, st status) {
	leaders.Lock()
	defer leaders.Unlock()
	if st.parent == os.Getpid() && st.group != syscall.Getpgrp() && !leaders.pids[pid] {
		_, _ = syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
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

// status is the part of /proc/PID/stat that is used (proc(5)).
type status struct {
	dead                   bool
	parent, group, session int
}

func statusOf(pid int) status {
	stat, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	if err != nil {
		return status{dead: true}
	}
	text := string(stat)
	f := strings.Fields(text[strings.LastIndexByte(text, ')')+1:])
	if len(f) < 4 {
		return status{dead: true}
	}
	return status{f[0] == "Z" || f[0] == "X", atoi(f[1]), atoi(f[2]), atoi(f[3])}
}

// atoi returns a number, or 0 if the text is none.
func atoi(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}
