// Package slowline is a stand-in for a slow connection: it forwards TCP to
// another address at a limited speed and with a delay.
package slowline

import (
	"context"
	"io"
	"net"
	"sync/atomic"
	"time"
)

// Line is a slow connection that is being served.
type Line struct {
	Addr     string // target address
	l        net.Listener
	up, down *meter
}

// Passed returns how many bytes the line has forwarded in each direction.
func (l *Line) Passed() (up, down int64) { return l.up.passed.Load(), l.down.passed.Load() }

// Start serves a line to the address until the context ends. Speed is in bytes
// per second, each way, for all connections together; delay is added each way.
func Start(ctx context.Context, to string, speed float64, delay time.Duration) (*Line, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		<-ctx.Done()
		l.Close()
	}()
	up, down := newMeter(speed), newMeter(speed)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go pass(ctx, c, to, up, down, delay)
		}
	}()
	return &Line{Addr: l.Addr().String(), l: l, up: up, down: down}, nil
}

func pass(ctx context.Context, c net.Conn, to string, up, down *meter, delay time.Duration) {
	defer c.Close()
	s, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { c.Close(); s.Close() })
	defer stop()
	done := make(chan struct{})
	go func() {
		defer close(done)
		copyTo(s, c, up, delay)
		_ = s.(*net.TCPConn).CloseWrite()
	}()
	copyTo(c, s, down, delay)
	_ = c.(*net.TCPConn).CloseWrite()
	<-done
}

type piece struct {
	data []byte
	at   time.Time
}

// copyTo forwards pieces when their delay is over and the meter allows it.
func copyTo(w io.Writer, r io.Reader, m *meter, delay time.Duration) {
	ch := make(chan piece, 256)
	go func() {
		defer close(ch)
		for {
			buf := make([]byte, 8<<10)
			n, err := r.Read(buf)
			if n > 0 {
				ch <- piece{buf[:n], time.Now().Add(delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	failed := false
	for p := range ch {
		if failed {
			continue // lets the reader end
		}
		time.Sleep(time.Until(p.at))
		m.take(len(p.data))
		_, err := w.Write(p.data)
		failed = err != nil
	}
}

// meter divides the capacity of a line among its connections.
type meter struct {
	speed  float64
	next   chan time.Time
	passed atomic.Int64
}

func newMeter(speed float64) *meter {
	m := &meter{speed: speed, next: make(chan time.Time, 1)}
	m.next <- time.Now()
	return m
}

func (m *meter) take(n int) {
	free := <-m.next
	if now := time.Now(); free.Before(now) {
		free = now
	}
	free = free.Add(time.Duration(float64(n) / m.speed * float64(time.Second)))
	m.next <- free
	m.passed.Add(int64(n))
	time.Sleep(time.Until(free))
}
