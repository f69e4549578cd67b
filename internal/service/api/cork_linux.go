package api

import (
	"context"
	"net"

	"golang.org/x/sys/unix"
)

type connection struct{}

// WithConnection is for [http.Server.ConnContext].
func WithConnection(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, connection{}, c)
}

// cork holds back what does not fill a packet until end is called: the head of an answer then
// travels with what follows it, and the other side wakes once for both. On a connection that is
// not a TCP connection it does nothing.
func cork(ctx context.Context) (end func()) {
	c, ok := ctx.Value(connection{}).(*net.TCPConn)
	if !ok {
		return func() {}
	}
	raw, err := c.SyscallConn()
	if err != nil {
		return func() {}
	}
	set := func(value int) {
		_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_CORK, value) })
	}
	set(1)
	return func() { set(0) }
}
