package sandbox

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"github.com/landlock-lsm/go-landlock/landlock"
	llsys "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"
)

// landlockFiles and landlockNet are the versions of Landlock's interface that
// control renaming between directories and truncation, and TCP connections.
const (
	landlockFiles = 3
	landlockNet   = 4
)

// Able finds out, once, what this machine can enforce. Dir is a writable
// directory.
var Able = func() func(dir string) Ability {
	var once sync.Once
	var a Ability
	return func(dir string) Ability {
		once.Do(func() { a = able(dir) })
		return a
	}
}()

func able(dir string) Ability {
	var a Ability
	var why []string
	abi, err := llsys.LandlockGetABIVersion()
	if err != nil || abi < landlockFiles {
		abi = 0
		why = append(why, "this kernel has no Landlock")
	}
	a.Files = abi >= landlockFiles
	with := a
	with.Place, with.Network = true, "namespace"
	if err := try(dir, with); err == nil {
		a = with
	} else {
		why = append(why, "namespaces: "+err.Error())
		if abi >= landlockNet {
			a.Network = "landlock"
		}
	}
	a.Why = strings.Join(why, "; ")
	return a
}

// try starts a child that applies the restrictions and ends.
func try(dir string, a Ability) error {
	stage, err := os.MkdirTemp(dir, "")
	if err != nil {
		return err
	}
	defer os.RemoveAll(stage)
	for _, d := range []string{TreeDir, HomeDir, TempDir} {
		if err := os.Mkdir(filepath.Join(stage, d), 0o755); err != nil {
			return err
		}
	}
	cmd := exec.Command("true")
	cmd.Env = os.Environ()
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	fault, err := wrap(cmd, order{Stage: Stage{Dir: stage}, Ability: a, Try: true})
	if err != nil {
		return err
	}
	err = cmd.Start()
	said := fault()
	if err == nil {
		err = cmd.Wait()
	}
	if said != nil {
		return said
	}
	if err != nil && out.Len() > 0 {
		return fmt.Errorf("%w: %s", err, out.Bytes())
	}
	return err
}

func namespaces(cmd *exec.Cmd, o order) {
	attr := cmd.SysProcAttr
	if attr == nil {
		attr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr = attr
	if o.Ability.Place && !o.Stage.Moving {
		attr.Cloneflags |= unix.CLONE_NEWNS
	}
	if !o.Stage.Network && o.Ability.Network == "namespace" {
		attr.Cloneflags |= unix.CLONE_NEWNET
	}
	if uid := os.Getuid(); attr.Cloneflags != 0 && uid != 0 {
		attr.Cloneflags |= unix.CLONE_NEWUSER
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: uid, HostID: uid, Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}}
		attr.AmbientCaps = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN}
	}
}

// become applies the restrictions to the process and turns it into the command.
func become(o order) error {
	unix.CloseOnExec(3)
	s, a := o.Stage, o.Ability
	placed := a.Place && !s.Moving
	if placed {
		if err := place(s); err != nil {
			return fmt.Errorf("mounting the tree: %w", err)
		}
	}
	if !s.Network && a.Network == "namespace" {
		if err := loopback(); err != nil {
			return fmt.Errorf("its loopback: %w", err)
		}
	}
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
	if err := os.Chdir(a.At(s, TreeDir, s.Work)); err != nil {
		return err
	}
	program := ""
	if !o.Try {
		var err error
		if program, err = exec.LookPath(o.Command[0]); err != nil && !errors.Is(err, exec.ErrDot) {
			return fmt.Errorf("cannot run %q: %w", o.Command[0], err)
		}
	}
	if a.Files {
		if err := hold(s, a); err != nil {
			return fmt.Errorf("applying Landlock: %w", err)
		}
	}
	if o.Try {
		os.Exit(0)
	}
	err := syscall.Exec(program, o.Command, os.Environ())
	return fmt.Errorf("cannot run %q: %w", program, err)
}

// place mounts the stage at the constant path, and covers directories in which
// other programs keep sockets with empty ones.
func place(s Stage) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return err
	}
	dir, err := unix.Open(s.Dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(dir)
	used := append([]string{s.Dir}, append(s.Readable, s.Writable...)...)
	for _, top := range []string{"/run", "/tmp", "/dev/shm", "/srv"} {
		for _, u := range used[1:] {
			if u == top || strings.HasPrefix(u, top+"/") {
				if top == "/srv" {
					return fmt.Errorf("%s is below /srv, where the sealed tree is mounted: move it elsewhere", u)
				}
				top = ""
			}
		}
		if top == "" {
			continue
		}
		if err := unix.Mount("none", top, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755"); err != nil {
			return fmt.Errorf("%s: %w", top, err)
		}
	}
	if err := os.Mkdir(Constant, 0o755); err != nil {
		return err
	}
	return unix.Mount(fmt.Sprintf("/proc/self/fd/%d", dir), Constant, "", unix.MS_BIND, "")
}

// loopback enables the network namespace's own loopback, for tests that connect
// to themselves.
func loopback() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	req, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	req.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, req)
}

// hold applies Landlock to this process and its descendants.
func hold(s Stage, a Ability) error {
	writable := append([]string{a.At(s)}, s.Writable...)
	if a.Place && !s.Moving {
		writable = append(writable, "/dev/shm") // its own
	}
	rules := []landlock.Rule{
		landlock.RODirs(append(append([]string{}, system...), s.Readable...)...).IgnoreIfMissing(),
		landlock.RWDirs(writable...).WithRefer().IgnoreIfMissing(),
		landlock.RWFiles("/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/tty", "/dev/ptmx").IgnoreIfMissing(),
		landlock.RWDirs("/dev/pts").IgnoreIfMissing(),
	}
	config := landlock.V7.BestEffort()
	if err := config.RestrictPaths(rules...); err != nil {
		return err
	}
	if !s.Network && a.Network == "landlock" {
		return landlock.V4.RestrictNet()
	}
	return nil
}
