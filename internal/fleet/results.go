package fleet

import (
	"context"
	"errors"
	"fmt"
	"math"
	"path/filepath"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/wire"
	"stilltide/internal/work"
)

// lookEvery is how often it is looked whether the engine still has what it must.
func (f *Fleet) lookEvery() time.Duration {
	return min(max(f.lease/6, 300*time.Millisecond), 4*time.Second)
}

// wait waits for the result of what was offered. What the engine has lost is offered again,
// under the same ticket.
func (f *Fleet) wait(ctx context.Context, w *trip, t work.Trip) (r wire.Result, err error) {
	look := time.NewTicker(f.lookEvery())
	defer look.Stop()
	missing := 0
	for {
		select {
		case <-ctx.Done():
			return r, context.Cause(ctx)
		case m := <-w.result:
			if r, err = wire.ReadResult(m.Data(), w.ticket.Name); err != nil {
				return wire.Result{Damaged: true, NotRun: err.Error()}, nil
			}
			return r, nil
		case <-look.C:
			if since, _ := f.link.IsAway(); !since.IsZero() || f.isThere(ctx, w) {
				missing = 0
			} else if missing++; missing == 2 {
				missing = 0
				if err := f.handOver(ctx, w, t); err != nil {
					return r, err
				}
			}
		}
	}
}

// isThere reports whether the engine has the offer or its result; in doubt it has.
func (f *Fleet) isThere(ctx context.Context, w *trip) bool {
	_, js, err := f.link.Conn(ctx)
	if err != nil {
		return true
	}
	ctx, end := context.WithTimeout(ctx, wire.OnePart)
	defer end()
	has := func(stream, subject string) bool {
		s, err := js.Stream(ctx, stream)
		if err == nil {
			_, err = s.GetLastMsgForSubject(ctx, subject)
		}
		return !errors.Is(err, jetstream.ErrMsgNotFound) && !errors.Is(err, jetstream.ErrStreamNotFound)
	}
	return has(wire.JobStream, wire.JobSubject(w.ticket.Pool, f.ledger, w.ticket.Name)) || len(w.result) > 0 ||
		has(wire.ResultStream, wire.ResultSubject(f.ledger, w.ticket.Name))
}

// takeResults gives every result to the trip that waits for it. One whose ticket is not open is
// refused; so only one counts.
func (f *Fleet) takeResults() {
	_, js, err := f.link.Conn(f.ctx)
	if err != nil {
		return
	}
	for f.ctx.Err() == nil {
		ctx, end := context.WithTimeout(f.ctx, wire.OnePart)
		c, err := js.Consumer(ctx, wire.ResultStream, "ledger-"+f.ledger)
		end()
		for err == nil && f.ctx.Err() == nil {
			var m jetstream.Msg
			if m, err = f.link.Next(f.ctx, c); err == nil && m != nil {
				f.arrived(m)
			}
		}
		_ = wire.Pause(f.ctx, 200*time.Millisecond)
	}
}

func (f *Fleet) arrived(m jetstream.Msg) {
	name := wire.LastWord(m.Subject())
	f.mu.Lock()
	w, open := f.open[name]
	_, known := f.known[name]
	first := open && w.got == nil
	if open {
		w.got = m // of a result that comes again the newest is to be acknowledged
	}
	f.mu.Unlock()
	switch {
	case first:
		w.result <- m // there is room for the only one
	case known:
		_ = m.NakWithDelay(time.Second) // its job is taken up soon, or is at its end
	default:
		f.clearing.Go(func() { f.clear(name, m) })
	}
}

// fetch brings what a command made, and what it printed.
func (f *Fleet) fetch(ctx context.Context, w *trip, t work.Trip, r wire.Result) error {
	stop := f.holdResult(w)
	defer stop()
	_, js, err := f.link.Conn(ctx)
	if err != nil {
		return err
	}
	from := &wire.Receiver{Js: js, Prefix: wire.FileSubject(f.ledger, w.ticket.Name) + ".out.", Most: math.MaxInt64 / 2}
	if err := w.output.whole(ctx, from, r.Printed); err != nil {
		return err
	}
	if t.Scratch == "" || r.NotRun != "" || r.Lost {
		return nil
	}
	items, err := from.Items(ctx, r.Outputs)
	if err != nil {
		return err
	}
	for _, item := range items {
		if first, _, _ := strings.Cut(item.Path, "/"); plan.Hidden(first) {
			return fmt.Errorf("%s made %s, which is a name of the watcher's own", r.Helper, item.Path)
		}
	}
	if err := from.Into(ctx, t.Scratch, items); err != nil {
		return fmt.Errorf("of %s: %w", r.Helper, err)
	}
	if t.Stdout == "" || r.Stdout == nil {
		return nil
	}
	out := *r.Stdout
	out.Path, out.Mode = filepath.Base(t.Stdout), 0o600
	return from.Into(ctx, filepath.Dir(t.Stdout), []wire.Item{out})
}

// holdResult tells the engine now and then that the result is being taken.
func (f *Fleet) holdResult(w *trip) (stop func()) {
	over := make(chan struct{})
	go func() { // ends with stop
		tick := time.NewTicker(f.lease / 3)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
				f.mu.Lock()
				m := w.got
				f.mu.Unlock()
				_ = m.InProgress()
			}
		}
	}()
	return func() { close(over) }
}

// Over closes the tickets of a job whose attempt has ended, which the ledger was told before.
// When that is durable, all that the engine has of them is removed.
func (f *Fleet) Over(number int64) {
	f.mu.Lock()
	var list []*trip
	for name, t := range f.known {
		if t.Job != number {
			continue
		}
		w := f.open[name]
		if w == nil {
			w = &trip{ticket: t}
		}
		list = append(list, w)
	}
	f.mu.Unlock()
	for _, w := range list {
		f.settle(w)
	}
}

// settle closes a ticket: no result is taken for it any more.
func (f *Fleet) settle(w *trip) {
	name := w.ticket.Name
	f.o.Book.CloseTicket(name)
	f.mu.Lock()
	delete(f.open, name)
	delete(f.known, name)
	got := w.got
	f.mu.Unlock()
	f.clearing.Go(func() {
		if f.o.Book.Sync(f.ctx) == nil {
			f.clear(name, got)
		}
	})
}

// clear removes the parts of a ticket's files, and then its result, if there is one. What
// cannot be reached now is removed by its age.
func (f *Fleet) clear(name string, result jetstream.Msg) {
	ctx, end := context.WithTimeout(f.ctx, time.Minute)
	defer end()
	_, js, err := f.link.Conn(ctx)
	if err != nil {
		return
	}
	purge := func(stream, subject string) {
		_ = wire.Until(ctx, func(ctx context.Context) error {
			s, err := js.Stream(ctx, stream)
			if err == nil {
				err = s.Purge(ctx, jetstream.WithPurgeSubject(subject))
			}
			return err
		})
	}
	purge(wire.JobStream, wire.JobSubject("*", f.ledger, name)) // a helper whose last word was lost has left it there
	purge(wire.FileStream, wire.FileSubject(f.ledger, name)+".>")
	if result != nil {
		one, end := context.WithTimeout(ctx, wire.OnePart)
		defer end()
		_ = result.DoubleAck(one) // one that comes again is refused
	}
}

// cancel takes an offer out of the queue, and asks the helper that has it to end it. A helper
// that is just taking it does not hear that yet, so it is asked more than once.
func (f *Fleet) cancel(t job.Ticket) {
	f.work.Go(func() {
		nc, js, err := f.link.Conn(f.ctx)
		if err != nil {
			return
		}
		for n := range 4 {
			ctx, end := context.WithTimeout(f.ctx, wire.OnePart)
			if s, err := js.Stream(ctx, wire.JobStream); err == nil {
				_ = s.Purge(ctx, jetstream.WithPurgeSubject(wire.JobSubject(t.Pool, f.ledger, t.Name)))
			}
			_, err := nc.RequestWithContext(ctx, wire.CancelSubject(f.ledger, t.Name), nil)
			end()
			if err == nil || wire.Pause(f.ctx, time.Duration(100<<n)*time.Millisecond) != nil {
				return
			}
		}
	})
}
