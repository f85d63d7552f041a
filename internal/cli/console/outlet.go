package console

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"sync"
	"time"

	"stilltide/internal/core/plan"
)

const (
	// mostUnread bounds what waits for a stream that takes nothing, in bytes.
	mostUnread = 4 << 20
	// lastWords is how long an end waits for a stream that takes nothing.
	lastWords = 2 * time.Second
)

// outlet prints from a goroutine of its own. A terminal that was stopped with Ctrl-S, or a
// program that does not read what it is sent, holds up that goroutine, and no work.
type outlet struct {
	say func(sentence string) // tells what became of the lines

	mu      sync.Mutex
	changed sync.Cond
	pieces  []piece // to be printed, the first one first
	size    int     // in bytes
	waits   bool    // what finds no room waits for it; else it is left out
	missed  int     // lines that were left out
	over    bool
	done    chan struct{} // closed when all is printed
}

// piece is a text and the stream that it is for.
type piece struct {
	to   io.Writer
	text string
}

func newOutlet(waits bool, say func(sentence string)) *outlet {
	o := &outlet{waits: waits, say: say, done: make(chan struct{})}
	o.changed.L = &o.mu
	go o.run()
	return o
}

// put has a text printed: at once if the outlet has ended.
func (o *outlet) put(to io.Writer, text string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for o.waits && !o.over && o.size+len(text) > mostUnread && o.size > 0 {
		o.changed.Wait()
	}
	switch {
	case o.over:
		_, _ = io.WriteString(to, text) // an error has no stream left to be told on
	case o.size+len(text) > mostUnread:
		o.missed += strings.Count(text, "\n")
	default:
		o.pieces = append(o.pieces, piece{to, text})
		o.size += len(text)
		o.changed.Broadcast()
	}
}

// idle reports whether all that came was taken.
func (o *outlet) idle() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.size == 0
}

// run prints until the outlet ends.
func (o *outlet) run() {
	defer close(o.done)
	failed := false
	for {
		p, ok := o.first()
		if !ok {
			return
		}
		_, err := io.WriteString(p.to, p.text)
		if err != nil && !failed {
			o.say(unwritten(p.to, err))
		}
		failed = err != nil
		if n := o.printed(p); n > 0 {
			o.say(plan.Plural(n, "line") + " left out here: what reads them was stopped, or too slow")
		}
	}
}

// unwritten says that a stream takes nothing.
func unwritten(to io.Writer, err error) string {
	stream := "standard error"
	if to == os.Stdout {
		stream = "standard output"
	}
	return fmt.Sprintf("%s cannot be written (%s); the work goes on", stream, Reason(err))
}

// first waits for the next piece; false if none comes any more.
func (o *outlet) first() (piece, bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for len(o.pieces) == 0 && !o.over {
		o.changed.Wait()
	}
	if len(o.pieces) == 0 {
		return piece{}, false
	}
	return o.pieces[0], true
}

// printed takes the first piece off. When it was the last one, it gives the number of lines
// that found no room behind it.
func (o *outlet) printed(p piece) (missed int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.pieces[0] = piece{}
	o.pieces = o.pieces[1:]
	o.size -= len(p.text)
	o.changed.Broadcast()
	if len(o.pieces) == 0 {
		missed, o.missed = o.missed, 0
	}
	return missed
}

// release ends all waiting for room.
func (o *outlet) release() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.waits = false
	o.changed.Broadcast()
}

// end waits until all is printed; once the context has ended, for two seconds more at most.
func (o *outlet) end(ctx context.Context) {
	o.mu.Lock()
	o.over = true
	o.changed.Broadcast()
	o.mu.Unlock()
	select {
	case <-o.done:
		return
	case <-ctx.Done():
	}
	select {
	case <-o.done:
	case <-time.After(lastWords):
	}
}

// AtWork is UntilSignal for a command that works on files: from now on the board prints through
// outlets, so that work does not depend on who reads what it says. With waits it does when much
// is unread, until a signal comes. The returned function ends it when all is printed.
func (a *App) AtWork(waits bool) (context.Context, context.CancelFunc) {
	ctx, stop := untilSignal(false)
	say := func(sentence string) {
		_, _ = io.WriteString(a.Err, a.sentence(slog.LevelWarn, sentence)) // not over an outlet: it may be full
	}
	out, errs := newOutlet(waits, say), (*outlet)(nil)
	if errs = out; !sameFile(a.Out, a.Err) {
		errs = newOutlet(waits, say)
	}
	a.Board.through(a.Out, out, errs)
	released := context.AfterFunc(ctx, func() {
		out.release()
		errs.release()
	})
	return ctx, sync.OnceFunc(func() {
		out.end(ctx)
		if errs != out {
			errs.end(ctx)
		}
		released()
		stop()
	})
}

// sameFile reports whether two streams lead to the same file, pipe or terminal: what is printed
// to them must keep its order.
func sameFile(a, b io.Writer) bool {
	x, isFile := a.(*os.File)
	y, isFileToo := b.(*os.File)
	if !isFile || !isFileToo {
		return a == b
	}
	one, err := x.Stat()
	other, errToo := y.Stat()
	return err == nil && errToo == nil && os.SameFile(one, other)
}
