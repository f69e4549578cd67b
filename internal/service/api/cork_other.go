//go:build !linux

package api

import (
	"context"
	"net"
)

// WithConnection is for [http.Server.ConnContext].
func WithConnection(ctx context.Context, _ net.Conn) context.Context { return ctx }

// cork does nothing: only Linux can hold back what does not fill a packet.
func cork(context.Context) (end func()) { return func() {} }
