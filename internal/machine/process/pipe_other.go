//go:build !linux

package process

import (
	"io"
	"os"
	"os/exec"
)

// pipe is the output of a command.
type pipe struct {
	from *os.File
	*copied
}

// newPipe returns the output of a command, passed on to a writer, and the end that the command
// writes to.
func newPipe(to io.Writer) (p *pipe, write *os.File, err error) {
	pr, pw, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	return &pipe{pr, copyFrom(pr, to)}, pw, nil
}

func (p *pipe) close() { p.from.Close() }

// watch does nothing on this system.
func (p *pipe) watch(*exec.Cmd) {}

// untilExit does nothing on this system: whoever reaps the command waits for it.
func (p *pipe) untilExit(*exec.Cmd) bool { return false }
