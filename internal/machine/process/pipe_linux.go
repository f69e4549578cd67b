package process

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"time"

	"golang.org/x/sys/unix"
)

// pipe is the output of a command. One thread waits for it and for the end of the command: with a
// goroutine for each, a task that does nothing takes a tenth longer.
type pipe struct {
	fd      int
	to      io.Writer
	buf     []byte
	pid     int // the descriptor of the process; -1: the system has none, or it was not started
	end     bool
	*copied // if there is no such descriptor
}

// newPipe returns the output of a command, passed on to a writer, and the end that the command
// writes to.
func newPipe(to io.Writer) (p *pipe, write *os.File, err error) {
	var fds [2]int
	if err := unix.Pipe2(fds[:], unix.O_CLOEXEC); err != nil {
		return nil, nil, os.NewSyscallError("pipe2", err)
	}
	return &pipe{fd: fds[0], to: to, pid: -1}, os.NewFile(uintptr(fds[1]), "output"), nil
}

func (p *pipe) close() {
	if p.pid >= 0 {
		unix.Close(p.pid)
	}
	if p.copied != nil {
		p.copied.from.Close()
	} else {
		unix.Close(p.fd)
	}
}

// watch asks for a descriptor of the process that is about to be started.
func (p *pipe) watch(cmd *exec.Cmd) { cmd.SysProcAttr.PidFD = &p.pid }

// untilExit passes on what the command prints until it has ended, and leaves it to be reaped.
func (p *pipe) untilExit(cmd *exec.Cmd) bool {
	for p.pid >= 0 {
		set := []unix.PollFd{{Fd: int32(p.pid), Events: unix.POLLIN}, {Fd: int32(p.fd), Events: unix.POLLIN}}
		if p.end {
			set = set[:1]
		}
		if _, err := unix.Poll(set, -1); errors.Is(err, unix.EINTR) {
			continue
		} else if err != nil {
			break
		}
		if len(set) > 1 && set[1].Revents != 0 {
			p.pass()
		}
		if set[0].Revents != 0 {
			return true
		}
	}
	_ = unix.SetNonblock(p.fd, true) // otherwise closing the file would not end a read that waits
	p.copied = copyFrom(os.NewFile(uintptr(p.fd), "output"), p.to)
	p.fd = -1 // it is the file's
	return awaitExit(cmd.Process.Pid)
}

// pass passes on what there is to be read.
func (p *pipe) pass() {
	if p.buf == nil {
		p.buf = make([]byte, 32<<10)
	}
	n, err := unix.Read(p.fd, p.buf)
	switch {
	case errors.Is(err, unix.EINTR):
	case err != nil || n == 0:
		p.end = true
	default:
		_, _ = p.to.Write(p.buf[:n])
	}
}

// rest passes on everything else, but does not wait longer than the limit.
func (p *pipe) rest(limit time.Duration) {
	if p.copied != nil {
		p.copied.rest(limit)
		return
	}
	until := time.Now().Add(limit)
	for left := limit; !p.end && left > 0; left = time.Until(until) {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(p.fd), Events: unix.POLLIN}}, int(left.Milliseconds())+1)
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return
		case n > 0:
			p.pass()
		}
	}
}
