package sandbox

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	llsys "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/machine/process"
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
	full := a
	full.Place, full.Processes, full.Network = true, true, "namespace"
	err = try(dir, full)
	if err == nil {
		full.Why = strings.Join(why, "; ")
		return full
	}
	why = append(why, "namespaces: "+err.Error())
	part := full
	part.Processes = false // some containers let no process file system be mounted
	if try(dir, part) == nil {
		a = part
	} else if abi >= landlockNet {
		a.Network = "landlock"
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
	began, ended, err := wrap(cmd, order{Stage: Stage{Dir: stage}, Ability: a, Try: true})
	if err != nil {
		return err
	}
	err = cmd.Start()
	said := began()
	if err == nil {
		err = cmd.Wait()
	}
	_ = ended(&process.Result{})
	if said != nil {
		return said
	}
	if err != nil && out.Len() > 0 {
		return fmt.Errorf("%w: %s", err, out.Bytes())
	}
	return err
}

// namespaces makes a command start in namespaces of its own.
func namespaces(cmd *exec.Cmd, o order) {
	attr := cmd.SysProcAttr
	if attr == nil {
		attr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr = attr
	if o.Ability.Place {
		attr.Cloneflags |= unix.CLONE_NEWNS
	}
	if o.Ability.Processes {
		attr.Cloneflags |= unix.CLONE_NEWPID | unix.CLONE_NEWIPC
	}
	if !o.Stage.Network && o.Ability.Network == "namespace" {
		attr.Cloneflags |= unix.CLONE_NEWNET
	}
	if uid := os.Getuid(); attr.Cloneflags != 0 && uid != 0 {
		attr.Cloneflags |= unix.CLONE_NEWUSER
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: uid, HostID: uid, Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}}
		attr.AmbientCaps = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN, unix.CAP_SETPCAP}
	}
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
