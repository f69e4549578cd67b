package process

import (
	"io"
	"os"
	"time"
)

// copied copies the output of a command from a pipe to a writer, in its own goroutine.
type copied struct {
	from *os.File
	end  chan struct{}
}

func copyFrom(from *os.File, to io.Writer) *copied {
	c := &copied{from, make(chan struct{})}
	go func() {
		defer close(c.end)
		_, _ = io.Copy(to, from)
	}()
	return c
}

// rest waits until everything was passed on, but not longer than the limit.
func (c *copied) rest(limit time.Duration) {
	select {
	case <-c.end:
	case <-time.After(limit):
		c.from.Close()
		<-c.end
	}
}
