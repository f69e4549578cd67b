package slowline

import (
	"context"
	"io"
	"net"
	"testing"
	"time"
)

func TestTheLineIsSlowAndLosesNothing(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(c, c); c.Close() }() // an echo
		}
	}()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	line, err := Start(ctx, l.Addr().String(), 1e6, 10*time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	c, err := net.Dial("tcp", line.Addr)
	if err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	text := make([]byte, 200_000)
	for i := range text {
		text[i] = byte(i * 7)
	}
	go func() {
		_, _ = c.Write(text)
		_ = c.(*net.TCPConn).CloseWrite()
	}()
	got, err := io.ReadAll(c)
	if err != nil || string(got) != string(text) {
		t.Fatalf("%d bytes came back, %v", len(got), err)
	}
	if took := time.Since(began); took < 180*time.Millisecond {
		t.Errorf("200 kB over a line of 1 MB/s took %s", took)
	}
}
