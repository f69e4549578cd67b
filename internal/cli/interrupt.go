package cli

import (
	"context"
	"os"
	"os/signal"
	"syscall"
)

// errInterrupted ends a command that a person interrupted.
var errInterrupted = exit{exitInterrupted, "interrupted"}

// interrupts makes a context that the first interrupt cancels, and a channel
// that the second one closes.
func interrupts(parent context.Context) (ctx context.Context, kill <-chan struct{}, stop func()) {
	ctx, cancel := context.WithCancel(parent)
	signals := make(chan os.Signal, 4)
	second := make(chan struct{})
	done := make(chan struct{})
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP) // a closed terminal sends SIGHUP
	go func() {
		for n := 0; ; n++ {
			select {
			case <-signals:
			case <-done:
				return
			}
			if n == 0 {
				cancel()
			} else if n == 1 {
				close(second)
			}
		}
	}()
	return ctx, second, func() { signal.Stop(signals); close(done); cancel() }
}
