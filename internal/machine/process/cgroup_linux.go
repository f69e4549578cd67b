package process

import (
	"bufio"
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
)

// group is the control group of a run (cgroups(7), version 2). A process cannot
// leave it without rights that a task does not have, so all processes of a run
// are found there, whatever they did to their environment and session.
type group struct {
	dir string
	fd  *os.File
}

// current is the group of this process's run, if the system lets one be made.
var current struct {
	sync.Mutex
	group *group
}

// groupParent returns the directory of this process's own control group.
var groupParent = sync.OnceValue(func() string {
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	own, oerr := os.ReadFile("/proc/self/cgroup")
	if err != nil || oerr != nil {
		return ""
	}
	path := ""
	for line := range bytes.Lines(own) {
		if rest, ok := bytes.CutPrefix(line, []byte("0::")); ok {
			path = strings.TrimSpace(string(rest))
		}
	}
	for line := range bytes.Lines(mounts) {
		// The type of the file system comes after a hyphen (proc(5)).
		before, after, _ := bytes.Cut(line, []byte(" - "))
		if f := strings.Fields(string(before)); len(f) > 4 && bytes.HasPrefix(after, []byte("cgroup2 ")) && path != "" {
			return filepath.Join(f[4], path)
		}
	}
	return ""
})

// newGroup makes the control group of a run, or returns nil.
func newGroup(run string) *group {
	parent := groupParent()
	if parent == "" {
		return nil
	}
	dir := filepath.Join(parent, "grayloft-"+run)
	if os.Mkdir(dir, 0o755) != nil {
		return nil
	}
	_, err := os.Stat(filepath.Join(dir, "cgroup.kill"))
	fd, oerr := os.Open(dir)
	if err != nil || oerr != nil {
		_ = os.Remove(dir)
		return nil
	}
	return &group{dir, fd}
}

// joinRun makes a command start in the control group of the run.
func joinRun(cmd *exec.Cmd) {
	current.Lock()
	defer current.Unlock()
	if current.group != nil {
		cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(current.group.fd.Fd())
	}
}

// endGroup ends all processes of a control group and removes it.
func endGroup(dir string) {
	if dir == "" {
		return
	}
	for range 200 {
		_ = os.WriteFile(filepath.Join(dir, "cgroup.kill"), []byte("1"), 0)
		if err := os.Remove(dir); err == nil || errors.Is(err, os.ErrNotExist) {
			return
		}
		time.Sleep(5 * time.Millisecond) // killed processes leave it when they are gone
	}
}

// endSessions ends the processes of sessions.
func endSessions(ids map[int]bool) {
	for range 50 {
		found := false
		for _, pid := range processes() {
			if st := statusOf(pid); !st.dead && st.session > 1 && ids[st.session] {
				_ = syscall.Kill(pid, syscall.SIGKILL)
				found = true
			}
		}
		if !found {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// Reach says in words which processes of tasks are found after this process was
// killed.
func Reach() string {
	if g := newGroup("doctor-" + strings.ReplaceAll(time.Now().UTC().Format("150405.000000000"), ".", "-")); g != nil {
		g.fd.Close()
		endGroup(g.dir)
		return "all, by their control group"
	}
	return "all but those that empty their environment and leave their session (no control group can be made here); " +
		"of sealed tasks all, where they have a process namespace"
}

// readOrders reads what a client tells its guard until it ends: lines with the
// session of each task, the group, or a dot at a regular end.
func readOrders() (sessions map[int]bool, dir string, regular bool) {
	sessions = map[int]bool{}
	in := bufio.NewScanner(os.Stdin)
	for in.Scan() {
		switch word, rest, _ := strings.Cut(in.Text(), " "); word {
		case ".":
			return sessions, dir, true
		case "group":
			dir = rest
		case "session":
			sessions[atoi(rest)] = true
		case "over":
			delete(sessions, atoi(rest))
		}
	}
	return sessions, dir, false
}
