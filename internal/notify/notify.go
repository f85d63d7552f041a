// Package notify delivers notices to people: as a desktop notification, a
// webhook, an e-mail, or through a command of their own.
//
// Notices never hold up work. Tell only records an event; events become
// messages, messages go to an outbox in the state folder, and one goroutine per
// channel delivers them. A message that cannot be delivered is retried at
// growing intervals, across restarts, for a day.
package notify

import (
	"context"
	"fmt"
	"reflect"
	"sync"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/rule"
)

// keepTrying is how long a message is tried before it is given up.
const keepTrying = 24 * time.Hour

// atTheEnd is how long the last messages may take when the program ends.
const atTheEnd = 5 * time.Second

// oneTry bounds one attempt to deliver.
const oneTry = 30 * time.Second

// Options are what a hub needs.
type Options struct {
	State   string // the state folder; the outbox lies in it
	Rules   string // the rules file, which names the source of web hooks
	Machine string // this machine's name
	// Printed returns the last lines of a file with what a command printed.
	Printed func(path string) []string
	Log     func(notice.Event)
	Report  func(sentence string) // what became of the channels themselves
}

// Hub gathers events and sends them. Use Open, then Start, Tell, and Close.
type Hub struct {
	o      Options
	box    outbox
	kick   chan struct{}
	ended  context.Context
	end    context.CancelFunc
	work   sync.WaitGroup
	beat   sync.Mutex // held while a heartbeat is sent
	mu     sync.Mutex
	gather notice.Gatherer
	lines  map[string]*line
}

// Open makes a hub; it sends nothing yet.
func Open(o Options) (*Hub, error) {
	box, err := openOutbox(o.State)
	if err != nil {
		return nil, err
	}
	h := &Hub{o: o, box: box, kick: make(chan struct{}, 1), lines: map[string]*line{}}
	h.ended, h.end = context.WithCancel(context.Background())
	return h, nil
}

// Start begins to send on the channels; what an earlier run could not deliver comes first.
func (h *Hub) Start(channels rule.Channels) {
	h.startLines(channels)
	h.work.Go(h.run)
}

// Use replaces the channels after the rules were read again.
func (h *Hub) Use(channels rule.Channels) {
	h.mu.Lock()
	same := len(channels) == len(h.lines)
	for name, c := range channels {
		l := h.lines[name]
		same = same && l != nil && reflect.DeepEqual(plain(l.channel), plain(c))
	}
	h.mu.Unlock()
	if same {
		return
	}
	h.stopLines(0)
	h.startLines(channels)
}

// plain is a channel without where it stands in the file.
func plain(c rule.Channel) any {
	mail := ""
	if c.Mail != nil {
		mail = fmt.Sprint(c.Mail.Server.S, c.Mail.From.S, texts(c.Mail.To), c.Mail.User.S, c.Mail.Password.S,
			c.Mail.Secrecy)
	}
	return []any{c.Desktop, c.Webhook.S, c.Secret.S, c.Command.S, c.DigestTime(), c.Base, mail}
}

func (h *Hub) startLines(channels rule.Channels) {
	waiting := h.box.waiting()
	h.mu.Lock()
	defer h.mu.Unlock()
	for name, c := range channels {
		l := newLine(h, name, c, waiting[name])
		h.lines[name] = l
		l.start()
	}
}

// stopLines ends the channels' goroutines; those that are busy get some time.
func (h *Hub) stopLines(within time.Duration) {
	h.mu.Lock()
	lines := h.lines
	h.lines = map[string]*line{}
	h.mu.Unlock()
	late := time.AfterFunc(within, func() {
		for _, l := range lines {
			l.stop()
		}
	})
	defer late.Stop()
	for _, l := range lines {
		l.finish()
	}
	for _, l := range lines {
		l.work.Wait()
		l.stop()
	}
}

// Tell notes an event for channels. It never waits for anything but memory.
func (h *Hub) Tell(channels []string, e notice.Event) {
	if len(channels) == 0 {
		return
	}
	h.mu.Lock()
	for _, name := range channels {
		if l := h.lines[name]; l != nil {
			h.gather.Add(name, l.channel.DigestTime(), e)
		}
	}
	h.mu.Unlock()
	for _, name := range channels {
		if name == rule.LogChannel && h.o.Log != nil {
			h.o.Log(e)
		}
	}
	select {
	case h.kick <- struct{}{}:
	default:
	}
}

// Beat sends a heartbeat at once. One that cannot be delivered is not tried
// again: its silence is what it is for.
func (h *Hub) Beat(channel string, e notice.Event) {
	if channel == rule.LogChannel {
		h.o.Log(e)
		return
	}
	h.mu.Lock()
	l := h.lines[channel]
	h.mu.Unlock()
	if l == nil || !h.beat.TryLock() {
		return
	}
	h.work.Go(func() {
		defer h.beat.Unlock()
		ctx, cancel := context.WithTimeout(h.ended, oneTry)
		defer cancel()
		l.told(l.send.send(ctx, newID(e.At), One(channel, e)))
	})
}

// One makes a message of one event.
func One(channel string, e notice.Event) notice.Message {
	return notice.Compose(notice.Message{Channel: channel, Counts: map[notice.Kind]int{e.Kind: 1},
		Events: []notice.Event{e}, First: e.At, Last: e.At})
}

// run moves messages that are due into the outbox.
func (h *Hub) run() {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		h.mu.Lock()
		messages := h.gather.Due(time.Now())
		next, more := h.gather.Next()
		h.mu.Unlock()
		h.post(messages)
		wait := time.Duration(1<<63 - 1)
		if more {
			wait = due.In(next, time.Now())
		}
		timer.Reset(wait)
		select {
		case <-h.kick:
		case <-timer.C:
		case <-h.ended.Done():
			return
		}
	}
}

// post puts messages into the outbox and wakes their channels.
func (h *Hub) post(messages []notice.Message) {
	for _, m := range messages {
		h.mu.Lock()
		l := h.lines[m.Channel]
		h.mu.Unlock()
		if l == nil {
			continue
		}
		m = h.complete(m)
		id, err := h.box.put(m)
		if err != nil {
			h.o.Report(fmt.Sprintf("a notice for %s could not be kept: %v", m.Channel, err))
			continue
		}
		l.add(id)
	}
}

// complete adds what only this machine knows: its name, and what commands have printed.
func (h *Hub) complete(m notice.Message) notice.Message {
	m.Machine, m.Rules = h.o.Machine, h.o.Rules
	for i := range m.Events {
		if e := &m.Events[i]; e.Output != "" && h.o.Printed != nil {
			e.Printed = h.o.Printed(e.Output)
		}
	}
	return notice.Compose(m)
}

// Close sends what was gathered, as far as that is possible in a few seconds;
// the rest stays in the outbox for the next start.
func (h *Hub) Close() {
	h.end()
	h.work.Wait()
	h.mu.Lock()
	rest := h.gather.All(time.Now())
	h.mu.Unlock()
	h.post(rest)
	h.stopLines(atTheEnd)
}

// Try sends one message on a channel at once and tells what became of it.
func Try(ctx context.Context, o Options, name string, c rule.Channel, m notice.Message) error {
	ctx, cancel := context.WithTimeout(ctx, oneTry)
	defer cancel()
	return newSender(o, name, c).send(ctx, newID(m.Last), m)
}

func texts(list []rule.Text) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.S
	}
	return out
}
