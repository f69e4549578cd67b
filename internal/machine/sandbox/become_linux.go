package sandbox

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"syscall"

	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
)

// become applies the restrictions to the process and turns it into the command,
// or, in a process namespace, into the parent of the command.
func become(o order) error {
	unix.CloseOnExec(3)
	s, a := o.Stage, o.Ability
	if a.Place {
		if err := newRoot(o); err != nil {
			return fmt.Errorf("mounting what it may see: %w", err)
		}
	}
	if !s.Network && a.Network == "namespace" {
		if err := loopback(); err != nil {
			return fmt.Errorf("its loopback: %w", err)
		}
	}
	if err := os.Chdir(a.At(s, TreeDir, s.Work)); err != nil {
		return err
	}
	program := "/"
	if !o.Try {
		var err error
		if program, err = exec.LookPath(o.Command[0]); err != nil && !errors.Is(err, exec.ErrDot) {
			return fmt.Errorf("cannot run %q: %w", o.Command[0], err)
		}
	}
	// Capabilities belong to a thread: what it starts has those of this one.
	runtime.LockOSThread()
	if err := dropCapabilities(); err != nil {
		return fmt.Errorf("dropping capabilities: %w", err)
	}
	if err := hideKeys(); err != nil {
		return fmt.Errorf("hiding keys: %w", err)
	}
	if a.Files && !s.Nesting { // under Landlock nothing can be mounted
		if err := hold(s, a); err != nil {
			return fmt.Errorf("applying Landlock: %w", err)
		}
	}
	if o.Try {
		os.Exit(0)
	}
	if a.Processes {
		return lead(program, o.Command)
	}
	err := syscall.Exec(program, o.Command, os.Environ())
	return fmt.Errorf("cannot run %q: %w", program, err)
}

// lead runs the command as the first process of a namespace, with which all
// others end, and says how it ended. The command itself is not the first one:
// that would be immune to signals.
func lead(program string, command []string) error {
	_ = unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) // the command can neither read nor trace this process
	// Signals are for the command, which gets them as well: it is in this group.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGPIPE)
	said := os.NewFile(3, "said")
	child, err := os.StartProcess(program, command, &os.ProcAttr{Env: os.Environ(), Files: []*os.File{os.Stdin, os.Stdout, os.Stderr}})
	if err != nil {
		return fmt.Errorf("cannot run %q: %w", program, err)
	}
	fmt.Fprint(said, saidBegun)
	for {
		var st syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &st, 0, nil)
		switch {
		case errors.Is(err, syscall.EINTR):
		case err != nil:
			return err
		case pid != child.Pid: // an orphan
		case st.Signaled():
			fmt.Fprintf(said, saidSignal, unix.SignalName(st.Signal()))
			os.Exit(128 + int(st.Signal()))
		default:
			fmt.Fprintf(said, saidExit, st.ExitStatus())
			os.Exit(st.ExitStatus())
		}
	}
}

// Securebits that take all meaning from user 0 (capabilities(7)).
const noRoot = 1<<0 | 1<<1 | 1<<2 | 1<<3 | 1<<5 | 1<<6 | 1<<7

// dropCapabilities drops all capabilities of this thread, so that nothing that
// it starts can have one, not even as root.
func dropCapabilities() error {
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var have [2]unix.CapUserData
	if err := unix.Capget(&header, &have[0]); err != nil {
		return err
	}
	if have[unix.CAP_SETPCAP/32].Effective&(1<<(unix.CAP_SETPCAP%32)) != 0 {
		if err := unix.Prctl(unix.PR_SET_SECUREBITS, noRoot, 0, 0, 0); err != nil {
			return err
		}
		for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
			if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) {
				return err
			}
		}
	}
	var none [2]unix.CapUserData
	return unix.Capset(&header, &none[0])
}

// hold applies the newest restrictions of Landlock that the kernel knows to this
// process and its descendants.
func hold(s Stage, a Ability) error {
	writable := append([]string{a.At(s)}, s.Writable...)
	if a.Place {
		writable = append(writable, "/dev/shm", "/dev/pts") // its own
	}
	rules := []landlock.Rule{
		landlock.RODirs(append(append([]string{}, system...), s.Readable...)...).IgnoreIfMissing(),
		landlock.ROFiles(s.Files...).IgnoreIfMissing(),
		landlock.RWDirs(writable...).WithRefer().IgnoreIfMissing(),
		landlock.RWFiles("/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom").IgnoreIfMissing(),
	}
	config := landlock.V11.BestEffort()
	if s.Network || a.Network == "" || a.Network == "namespace" { // in a namespace, its own loopback is open
		config.HandledAccessNet = 0
	}
	// All at once: each set of restrictions forbids to rename between directories, unless it
	// has a rule that allows it (landlock(7), LANDLOCK_ACCESS_FS_REFER).
	return config.Restrict(rules...)
}
