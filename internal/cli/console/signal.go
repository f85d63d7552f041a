package console

import (
	"context"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"stilltide/internal/runner"
)

// UntilSignal returns a context that ends with the first Ctrl-C or SIGTERM. A
// second signal ends the program at once, and the commands that it runs with it.
func (a *App) UntilSignal() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	signals, over := make(chan os.Signal, 2), make(chan struct{})
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		var first time.Time
		for {
			select {
			case <-signals:
			case <-over:
				return
			}
			if first.IsZero() {
				first = time.Now()
				cancel()
			} else if time.Since(first) > sameSignal {
				runner.EndAll()
				os.Exit(exitInterrupted)
			}
		}
	}()
	return ctx, sync.OnceFunc(func() {
		signal.Stop(signals)
		close(over)
		cancel()
	})
}

// sameSignal is how long after the first signal another one is still the same:
// timeout(1) and some shells send it to the program and then to its process group.
const sameSignal = 150 * time.Millisecond

// exitInterrupted is the status of a program that a second Ctrl-C ended at once, as
// shells have it: 128 and the signal's number.
const exitInterrupted = 130
