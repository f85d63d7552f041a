package lend

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"

	"stilltide/internal/runner"
	"stilltide/internal/wire"
)

// Lending is what a helper needs.
type Lending struct {
	Access  wire.Access
	Pool    string
	Name    string // of this machine, as others show it
	Workers int
	Trusted []string // public keys of the watchers whose offers it runs
	Folder  string   // its own: scratch folders, and files that travel along
	Version string   // the program's own

	MaxSize   int64         // bytes that the inputs, or the outputs, of one command may have
	MaxTime   time.Duration // how long a command may take, 0 for no bound
	MaxKept   int64         // bytes of files that travel along and are kept
	StopAfter time.Duration // how long a running command may go on after the helper was asked to end

	Line func(Line) // a line a command; from any goroutine
	Said func(string)
}

// Line says what became of a command.
type Line struct {
	Rule    string
	Job     int64
	Attempt int
	Ledger  string
	Exit    int
	Ran     time.Duration
	Text    string // what is to be said besides
}

// Helper lends a machine. Use NewHelper, then Run.
type Helper struct {
	o      Lending
	link   *wire.Link
	runner *runner.Runner
	kept   *kept
	lock   *os.File // of the folder

	mu   sync.Mutex
	runs map[string]*task // by ledger and ticket
	ends bool
	last string // what was said last of the engine
	// A command that was lost with another helper may be what ends helpers: it runs alone.
	alone sync.RWMutex
}

// NewHelper prepares the helper's folder; one that an earlier helper has left is cleaned, and
// what its commands have left running is ended.
func New(o Lending) (*Helper, error) {
	if err := o.Access.Check(); err != nil {
		return nil, err
	}
	if len(o.Trusted) == 0 {
		return nil, errors.New("a helper runs commands for others, so it must be told for whom: --trust KEY, the " +
			"public key that stilltide fleet make-key has printed for the watcher")
	}
	for _, key := range o.Trusted {
		if !nkeys.IsValidPublicUserKey(key) {
			return nil, fmt.Errorf("--trust: %s is no public key: stilltide fleet make-key has printed the watcher's, "+
				"which begins with U", key)
		}
	}
	key, err := wire.ReadKey(o.Access.KeyFile)
	if err != nil {
		return nil, err
	}
	scratch := filepath.Join(o.Folder, "scratch")
	if err := os.MkdirAll(o.Folder, 0o700); err != nil {
		return nil, fmt.Errorf("the helper's folder cannot be made: %w", err)
	}
	lock, err := takeFolder(filepath.Join(o.Folder, "lock"))
	if err != nil {
		return nil, fmt.Errorf("the folder %s cannot be used: %w", o.Folder, err)
	}
	runner.EndSurvivors(o.Folder)
	if err := os.RemoveAll(scratch); err != nil {
		return nil, fmt.Errorf("what an earlier helper left cannot be removed: %w", err)
	}
	if err := os.Mkdir(scratch, 0o700); err != nil {
		return nil, fmt.Errorf("the helper's folder cannot be made: %w", err)
	}
	h := &Helper{o: o, lock: lock, runner: runner.New(), runs: map[string]*task{}}
	if h.kept, err = openKept(filepath.Join(o.Folder, "kept"), o.MaxKept); err != nil {
		return nil, err
	}
	o.Access.Name, o.Access.Inbox = "stilltide fleet lend "+o.Name, "helper"
	h.link = wire.NewLink(o.Access, key, h.connection, once(o.Said))
	return h, nil
}

// once says each sentence once.
func once(say func(string)) func(string) {
	var mu sync.Mutex
	said := map[string]bool{}
	return func(text string) {
		mu.Lock()
		again := said[text]
		said[text] = true
		mu.Unlock()
		if !again {
			say(text)
		}
	}
}

// connection says when the engine is found, lost and found again.
func (h *Helper) connection() {
	since, why := h.link.IsAway()
	text := "connected to the engine; pool " + h.o.Pool
	if !since.IsZero() {
		text = "the engine is away: " + why
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if text != h.last {
		h.last = text
		h.o.Said(text)
	}
}

// Run takes commands until the context ends. Running ones then get StopAfter to end by
// themselves; what has not ended by then is stopped, and given back.
func (h *Helper) Run(ctx context.Context) error {
	connecting, stop := context.WithCancel(ctx)
	defer stop()
	if text := h.link.Access.Open(); text != "" {
		h.o.Said(text)
	}
	go h.link.KeepUp(connecting) // ends with the context
	nc, js, err := h.link.Conn(ctx)
	if err != nil {
		return nil // asked to end before there was an engine
	}
	defer h.link.Close()
	defer h.lock.Close()
	for subject, heard := range map[string]nats.MsgHandler{"tide.cancel.>": h.cancelled,
		wire.WhoSubject: func(*nats.Msg) { h.sayHere() }} {
		s, err := nc.Subscribe(subject, heard)
		if err != nil {
			return err
		}
		defer func() { _ = s.Unsubscribe() }()
	}
	var all sync.WaitGroup
	over := make(chan struct{})
	all.Go(func() { h.keepSaying(over) })
	work, force := context.WithCancelCause(context.Background())
	defer force(nil)
	defer context.AfterFunc(ctx, func() {
		h.mu.Lock()
		h.ends = true
		h.mu.Unlock()
		h.sayHere()
		time.AfterFunc(h.o.StopAfter, func() { force(errHelperEnds) })
	})()
	var workers sync.WaitGroup
	for range h.o.Workers {
		workers.Go(func() { h.takeOffers(ctx, work, js) })
	}
	workers.Wait()
	close(over)
	all.Wait()
	return nil
}

var errHelperEnds = errors.New("the helper ends")

// takeOffers takes one offer after the other, and none ahead: of what is taken the lease runs.
func (h *Helper) takeOffers(ctx, work context.Context, js jetstream.JetStream) {
	for ctx.Err() == nil {
		one, end := context.WithTimeout(ctx, wire.OnePart)
		c, err := js.Consumer(one, wire.JobStream, wire.PoolConsumer(h.o.Pool))
		end()
		for err == nil && ctx.Err() == nil {
			var m jetstream.Msg
			if m, err = h.link.Next(ctx, c); err == nil && m != nil {
				h.one(ctx, work, js, m, c.CachedInfo().Config.AckWait)
			}
		}
		_ = wire.Pause(ctx, 300*time.Millisecond) // the pool may not be made yet
	}
}

// one takes an offer through.
func (h *Helper) one(ctx, work context.Context, js jetstream.JetStream, m jetstream.Msg, lease time.Duration) {
	if ctx.Err() != nil {
		_ = m.Nak() // it came in the instant in which the helper was asked to end
		return
	}
	o, err := wire.Open(m.Subject(), m.Headers(), m.Data(), h.o.Trusted)
	if err != nil {
		h.link.Said(fmt.Sprintf("an offer on %s is left to others: %v", m.Subject(), err))
		_ = m.NakWithDelay(untrustedDelay)
		return
	}
	meta, err := m.Metadata()
	if err != nil {
		_ = m.Nak()
		return
	}
	t := &task{h: h, js: js, m: m, offer: o, delivery: meta.NumDelivered, lease: lease, begun: bootTime()}
	t.run(work)
}

// untrustedDelay is after how long an offer that is not for this helper comes again: what comes
// again goes before what is new, so that it must not do that at once.
const untrustedDelay = 3 * time.Second

// cancelled ends a command that its watcher does not want any more.
func (h *Helper) cancelled(m *nats.Msg) {
	h.mu.Lock()
	t := h.runs[taskName(m.Subject)]
	h.mu.Unlock()
	if t != nil {
		t.stop(errUnwanted)
		_ = m.Respond([]byte(h.o.Name))
	}
}

// taskName is the ledger and ticket that a subject ends with.
func taskName(subject string) string {
	at := len(subject) - len(wire.LastWord(subject)) - 1
	return wire.LastWord(subject[:max(at, 0)]) + "." + subject[at+1:]
}

func (h *Helper) begin(t *task) {
	h.mu.Lock()
	h.runs[t.name()] = t
	h.mu.Unlock()
	h.sayHere()
}

func (h *Helper) done(t *task) {
	h.mu.Lock()
	delete(h.runs, t.name())
	h.mu.Unlock()
	h.sayHere()
}

func (h *Helper) keepSaying(over <-chan struct{}) {
	tick := time.NewTicker(wire.SayEvery)
	defer tick.Stop()
	for {
		h.sayHere()
		select {
		case <-over:
			return
		case <-tick.C:
		}
	}
}

// sayHere tells who listens how this helper stands.
func (h *Helper) sayHere() {
	h.mu.Lock()
	say := wire.Here{Version: h.o.Version, Helper: h.o.Name, Pool: h.o.Pool, Workers: h.o.Workers, Ends: h.ends}
	for _, t := range h.runs {
		say.Runs = append(say.Runs, wire.Running{Ledger: t.offer.Ledger, Ticket: t.offer.Ticket, Rule: t.offer.Rule,
			Job: t.offer.Job, For: (bootTime() - t.begun).Seconds()})
	}
	h.mu.Unlock()
	slices.SortFunc(say.Runs, func(a, b wire.Running) int { return int(b.For - a.For) })
	text, err := json.Marshal(say)
	if err == nil {
		h.link.Publish(wire.HereSubject(say.Pool, say.Helper), text)
	}
}
