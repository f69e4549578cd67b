// Command grayloftd is the service.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"grayloft.example/grayloft/internal/service/daemon"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := daemon.Main(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
