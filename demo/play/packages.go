package main

import (
	"context"
	"net"
	"net/http"
	"time"

	"grayloft.example/grayloft/internal/registry/standin"
)

// packages are the versions that the demonstration's registry has, of the package from
// elsewhere that Skerry Lines uses.
var packages = standin.Handler{"go": {"quay.example/logline": {"v1.2.0", "v1.3.0", "v1.4.0", "v1.5.1", "v1.6.0"}}}

// serveRegistry starts the registry on a free port of loopback, until the demonstration
// ends.
func (d *demo) serveRegistry(ctx context.Context) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s := &http.Server{Handler: packages, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = s.Serve(l) }() // Close ends it
	go func() {
		<-ctx.Done()
		s.Close()
	}()
	d.state.Registry = "http://" + l.Addr().String() + "/go"
	return d.save()
}
