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

// UntilSignal returns a context that ends with the first Ctrl-C or SIGTERM, when the terminal is
// closed (SIGHUP; not under nohup(1)), and when nothing reads what is printed any more (SIGPIPE).
// A second Ctrl-C or SIGTERM ends the program at once, and the commands that it runs with it.
func (a *App) UntilSignal() (context.Context, context.CancelFunc) { return untilSignal(true) }

// untilSignal is UntilSignal. Without unread the program goes on when nothing reads what it
// prints; either way it does not die of that in the middle of its work.
func untilSignal(unread bool) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	signals, over := make(chan os.Signal, 2), make(chan struct{})
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	if !signal.Ignored(syscall.SIGHUP) {
		signal.Notify(signals, syscall.SIGHUP)
	}
	pipes := signals
	if !unread {
		pipes = make(chan os.Signal, 1) // of which nothing is read
	}
	signal.Notify(pipes, syscall.SIGPIPE)
	go func() {
		var first time.Time
		for {
			var one os.Signal
			select {
			case one = <-signals:
			case <-over:
				return
			}
			switch {
			case first.IsZero():
				first = time.Now()
				cancel()
			case one == syscall.SIGPIPE || one == syscall.SIGHUP: // these come more than once
			case time.Since(first) > sameSignal:
				runner.EndAll()
				os.Exit(exitInterrupted)
			}
		}
	}()
	return ctx, sync.OnceFunc(func() {
		signal.Stop(signals)
		signal.Stop(pipes)
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
