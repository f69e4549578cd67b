package process

import (
	"os/exec"
	"strings"
	"testing"
	"time"
)

// Where the system has no descriptors of processes, output and end are waited for side by side.
func TestOutputIsPassedOnWithoutADescriptorOfTheProcess(t *testing.T) {
	for _, watched := range []bool{true, false} {
		out := &buffer{}
		p, write, err := newPipe(out)
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("sh", "-c", "head -c 200000 /dev/zero | tr '\\0' x; echo end")
		cmd.Stdout = write
		ownSession(cmd)
		if watched {
			p.watch(cmd)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		write.Close()
		if watched != (p.pid >= 0) {
			t.Errorf("watched %v: the descriptor is %d", watched, p.pid)
		}
		if !p.untilExit(cmd) {
			t.Error("it was reaped")
		}
		if err := cmd.Wait(); err != nil {
			t.Error(err)
		}
		p.rest(time.Minute)
		p.close()
		if text := out.String(); len(text) != 200004 || !strings.HasSuffix(text, "xend\n") {
			t.Errorf("watched %v: %d bytes arrived", watched, len(text))
		}
	}
}

// A process out of reach can neither hold up the end of a task nor flood it for ever.
func TestTheRestOfTheOutputIsLimited(t *testing.T) {
	for _, flooding := range []bool{false, true} {
		p, write, err := newPipe(&buffer{})
		if err != nil {
			t.Fatal(err)
		}
		flooded := make(chan struct{})
		go func() {
			defer close(flooded)
			for text := []byte("more\n"); flooding && err == nil; {
				_, err = write.Write(text)
			}
		}()
		p.rest(20 * time.Millisecond)
		p.close() // whoever still writes gets an error
		<-flooded
		write.Close()
	}
}

// The same without a descriptor of the process, where a goroutine reads the output.
func TestAReaderThatWaitsForTheOutputIsEnded(t *testing.T) {
	p, write, err := newPipe(&buffer{})
	if err != nil {
		t.Fatal(err)
	}
	defer write.Close() // after everything else: somebody still has the pipe open
	cmd := exec.Command("true")
	ownSession(cmd)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	p.untilExit(cmd)
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
	p.rest(20 * time.Millisecond)
	p.close()
}
