package notify

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"stilltide/internal/core/notice"
	"stilltide/internal/core/rule"
)

// maxWaiting bounds the messages that wait for one channel.
const maxWaiting = 200

// sender delivers one message. The id stays the same over all tries.
type sender interface {
	send(ctx context.Context, id string, m notice.Message) error
}

// later is an error of a receiver that says when it wants to be asked again.
type later struct {
	error
	after time.Duration
}

func (e later) Unwrap() error { return e.error }

// line is the way out of one channel: its messages, one after the other.
type line struct {
	hub     *Hub
	name    string
	channel rule.Channel
	send    sender

	ctx    context.Context
	cancel context.CancelFunc
	work   sync.WaitGroup
	kick   chan struct{}

	mu       sync.Mutex
	queue    []string
	ending   bool // ends when the queue is empty
	troubled bool // it was said that it cannot deliver
}

func newLine(h *Hub, name string, c rule.Channel, waiting []string) *line {
	l := &line{hub: h, name: name, channel: c, send: newSender(h.o, name, c), queue: waiting,
		kick: make(chan struct{}, 1)}
	l.ctx, l.cancel = context.WithCancel(context.Background())
	return l
}

func (l *line) start() { l.work.Go(l.run) }

// stop ends it at once, finish when its queue is empty.
func (l *line) stop() { l.cancel() }

func (l *line) finish() {
	l.mu.Lock()
	l.ending = true
	l.mu.Unlock()
	l.wake()
}

func (l *line) wake() {
	select {
	case l.kick <- struct{}{}:
	default:
	}
}

func (l *line) add(id string) {
	l.mu.Lock()
	l.queue = append(l.queue, id)
	dropped := ""
	if len(l.queue) > maxWaiting {
		dropped, l.queue = l.queue[1], append(l.queue[:1:1], l.queue[2:]...) // the first may be under way
	}
	l.mu.Unlock()
	if dropped != "" {
		l.hub.box.remove(dropped)
		l.hub.o.Report(fmt.Sprintf("more than %d notices wait for the channel %s, so the oldest was dropped",
			maxWaiting, l.name))
	}
	l.wake()
}

// first is the message to be delivered next.
func (l *line) first() (id string, ending bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.queue) > 0 {
		id = l.queue[0]
	}
	return id, l.ending
}

func (l *line) done(id string) {
	l.hub.box.remove(id)
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.queue) > 0 && l.queue[0] == id {
		l.queue = l.queue[1:]
	}
}

func (l *line) run() {
	tries := 0
	for l.ctx.Err() == nil {
		id, ending := l.first()
		if id == "" {
			if ending {
				return
			}
			select {
			case <-l.kick:
			case <-l.ctx.Done():
			}
			continue
		}
		m, err := l.hub.box.get(id)
		if err != nil { // somebody removed it
			l.done(id)
			continue
		}
		if err = l.try(id, m); l.ctx.Err() != nil && err != nil {
			return
		}
		l.told(err)
		if err == nil {
			l.done(id)
			tries = 0
			continue
		}
		if time.Since(m.Last) > keepTrying {
			l.hub.o.Report(fmt.Sprintf("a notice for the channel %s could not be delivered for a day and was "+
				"dropped: %s", l.name, m.Title))
			l.done(id)
			continue
		}
		tries++
		if ending || !l.pause(err, tries) {
			return
		}
	}
}

func (l *line) try(id string, m notice.Message) error {
	ctx, cancel := context.WithTimeout(l.ctx, oneTry)
	defer cancel()
	return l.send.send(ctx, id, m)
}

// told reports the first failure of a channel, and when it is over.
func (l *line) told(err error) {
	l.mu.Lock()
	was := l.troubled
	l.troubled = err != nil
	l.mu.Unlock()
	switch {
	case err != nil && !was:
		l.hub.o.Report(fmt.Sprintf("the channel %s cannot deliver: %v; it will be tried again, and jobs go on",
			l.name, err))
	case err == nil && was:
		l.hub.o.Report(fmt.Sprintf("the channel %s delivers again", l.name))
	}
}

// pause waits before the next try: 1 s, 3 s, 9 s, … at most 5 minutes, or as
// long as the receiver wants. False if the line ends meanwhile.
func (l *line) pause(err error, tries int) bool {
	wait := time.Second
	for i := 1; i < tries && wait < 5*time.Minute; i++ {
		wait *= 3
	}
	wait = min(wait, 5*time.Minute)
	wait += time.Duration(rand.Float64() * 0.2 * float64(wait))
	var asked later
	if errors.As(err, &asked) && asked.after > wait {
		wait = min(asked.after, time.Hour)
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		select {
		case <-timer.C:
			return true
		case <-l.ctx.Done():
			return false
		case <-l.kick:
			if _, ending := l.first(); ending {
				return false // it stays in the outbox
			}
		}
	}
}
