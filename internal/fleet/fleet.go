package fleet

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/wire"
)

// Lease is how long a helper may be silent until its command is given to another.
const Lease = 30 * time.Second

// Book is the ledger's part in it.
type Book interface {
	Identity() (string, error)
	RecordTicket(t job.Ticket)
	CloseTicket(name string)
	Tickets() ([]job.Ticket, error)
	Sync(ctx context.Context) error
	Job(number int64) (j job.Job, there bool, err error)
}

// Options are what the watcher's end needs.
type Options struct {
	Rules   *rule.Fleet
	Pools   []string
	Book    Book
	Changed func()       // the pools, or the engine, are not as they were; from any goroutine
	Said    func(string) // a sentence for people; from any goroutine
}

// Fleet is the watcher's end. Use New, then Start, then Close.
type Fleet struct {
	o        Options
	key      nkeys.KeyPair
	ledger   string // the ledger's name on the engine
	lease    time.Duration
	long     time.Duration // after which a hand-over is said to take long
	link     *wire.Link
	ctx      context.Context // ends with Close
	end      context.CancelFunc
	work     sync.WaitGroup
	clearing sync.WaitGroup // of what is settled

	mu        sync.Mutex
	ways      map[int]way           // of the trips under way
	trips     int                   // so far
	leaving   bool                  // the watcher is to end
	room      *sync.Cond            // bytes is less
	bytes     int64                 // of inputs that are under way
	open      map[string]*trip      // by ticket: those that wait for a result, or are placed
	known     map[string]job.Ticket // tickets that are open in the ledger
	helpers   map[string]seen       // by pool and name
	pools     map[string]bool       // those that rules name
	made      bool                  // the engine holds what it must
	noSetUp   string                // why not
	brought   map[string]time.Time  // by content: when the engine was seen to have it
	found     bool                  // the engine was found before
	backAt    time.Time             // when the engine was found last
	begun     time.Time             // of Start
	sentences map[string]time.Time  // when they were said
}

// seen is a helper's word, and when it came.
type seen struct {
	wire.Here
	at time.Time
}

// trip is a command under way.
type trip struct {
	ticket job.Ticket
	result chan jetstream.Msg
	got    jetstream.Msg // the result, which is to be acknowledged
	output *output
	size   int64 // of the inputs, bytes

	offered atomic.Bool // the engine has confirmed the offer
}

// New makes the watcher's end. Nothing is connected yet.
func New(o Options) (*Fleet, error) {
	key, err := wire.ReadKey(o.Rules.KeyFile.Absolute())
	if err != nil {
		return nil, err
	}
	f := &Fleet{o: o, key: key, long: longHandOver, lease: cmp.Or(o.Rules.Lease.Duration, Lease), ways: map[int]way{},
		open: map[string]*trip{}, known: map[string]job.Ticket{}, helpers: map[string]seen{},
		pools: map[string]bool{}, brought: map[string]time.Time{}, sentences: map[string]time.Time{}}
	f.room = sync.NewCond(&f.mu)
	a := accessOf(o.Rules)
	if err := a.Check(); err != nil {
		return nil, err
	}
	if f.ledger, err = o.Book.Identity(); err != nil {
		return nil, err
	}
	a.Name, a.Inbox = "stilltide watch "+f.ledger, "watcher"
	f.link = wire.NewLink(a, key, f.linkChanged, f.sayOnce)
	f.UsePools(o.Pools)
	return f, nil
}

func accessOf(r *rule.Fleet) wire.Access {
	a := wire.Access{Servers: r.Servers(), KeyFile: r.KeyFile.Absolute()}
	if r.CA.Set() {
		a.CA = r.CA.Absolute()
	}
	return a
}

// sayOnce says a sentence, but not again and again.
func (f *Fleet) sayOnce(text string) {
	f.mu.Lock()
	last := f.sentences[text]
	again := time.Since(last) > time.Hour
	if again {
		f.sentences[text] = time.Now()
	}
	f.mu.Unlock()
	if again {
		f.o.Said(text)
	}
}

// UsePools sets the pools that rules name.
func (f *Fleet) UsePools(names []string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.pools)
	for _, name := range names {
		f.pools[name] = true
	}
	f.made = false // a new one is to be made
}

// Start takes up what an earlier run has handed over, and connects in the background.
func (f *Fleet) Start() error {
	tickets, err := f.o.Book.Tickets()
	if err != nil {
		return err
	}
	f.begun = time.Now()
	f.ctx, f.end = context.WithCancel(context.Background())
	over, err := f.overBefore(tickets)
	if err != nil {
		return err
	}
	for _, t := range tickets {
		f.known[t.Name] = t
	}
	young := time.AfterFunc(grace, f.o.Changed) // what was not found by then is away
	context.AfterFunc(f.ctx, func() { young.Stop() })
	if text := f.link.Access.Open(); text != "" {
		f.o.Said(text)
	}
	f.work.Go(func() { f.link.KeepUp(f.ctx) })
	f.work.Go(f.keepSetUp)
	f.work.Go(f.takeResults)
	f.work.Go(func() { f.listen(over) })
	return nil
}

// overBefore lists the tickets of attempts that had ended when the watcher did.
func (f *Fleet) overBefore(tickets []job.Ticket) (over []job.Ticket, err error) {
	for _, t := range tickets {
		j, there, err := f.o.Book.Job(t.Job)
		if err != nil {
			return nil, err
		}
		ended := j.Last != nil && j.Last.Number >= t.Attempt && !j.Last.Ended.IsZero()
		if !there || j.State.Final() || ended {
			over = append(over, t)
		}
	}
	return over, nil
}

// Leave has every command that waits for another machine be left to it: the watcher ends.
func (f *Fleet) Leave() {
	f.mu.Lock()
	f.leaving = true
	f.mu.Unlock()
	f.LeavePool("")
}

// LeavePool does that for the commands of one pool, or of all for "".
func (f *Fleet) LeavePool(pool string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, w := range f.ways {
		if pool == "" || w.pool == pool {
			w.leave()
		}
	}
}

// Close ends the connection. What was handed over stays so.
func (f *Fleet) Close() {
	f.Leave()
	f.lastWords()
	f.end()
	f.clearing.Wait()
	f.work.Wait()
	f.link.Close()
}

// lastWords waits for a moment until what was settled is cleared away. What is not by then is
// so after the next start.
func (f *Fleet) lastWords() {
	done := make(chan struct{})
	go func() { // ends when all is cleared, at the latest with what Close ends
		f.clearing.Wait()
		close(done)
	}()
	if since, _ := f.link.IsAway(); !since.IsZero() {
		return
	}
	select {
	case <-done:
	case <-time.After(2 * time.Second):
	}
}

// Shared are the folders that the helpers mount, too.
func (f *Fleet) Shared() map[string]string { return f.o.Rules.Shared }

// listen keeps what helpers say, and takes up what is to be done first: over are tickets that
// are to be closed.
func (f *Fleet) listen(over []job.Ticket) {
	nc, _, err := f.link.Conn(f.ctx)
	if err != nil {
		return
	}
	heard, err := nc.Subscribe("tide.here.>", f.hear)
	if err == nil {
		defer func() { _ = heard.Unsubscribe() }()
		var printed *nats.Subscription
		if printed, err = nc.Subscribe(wire.PrintSubject(f.ledger, "*"), f.printed); err == nil {
			defer func() { _ = printed.Unsubscribe() }()
		}
	}
	if err != nil {
		f.sayOnce(fmt.Sprintf("what helpers say cannot be heard: %v", err))
	}
	_ = nc.Publish(wire.WhoSubject, nil) // those that are not heard say it by themselves soon
	for _, t := range over {
		f.cancel(t)
		f.settle(&trip{ticket: t})
	}
	tick := time.NewTicker(wire.SayEvery)
	defer tick.Stop()
	for {
		select {
		case <-f.ctx.Done():
			return
		case <-tick.C:
			f.forgetHelpers()
		}
	}
}

// silentAfter is when a helper counts as gone that was not heard.
const silentAfter = 4 * wire.SayEvery

func (f *Fleet) hear(m *nats.Msg) {
	h, ok := wire.ReadHere(m.Subject, m.Data)
	if !ok {
		return
	}
	f.mu.Lock()
	key := h.Pool + "." + h.Helper
	was, there := f.helpers[key]
	f.helpers[key] = seen{h, time.Now()}
	other := !there || was.Workers != h.Workers || was.Ends != h.Ends
	f.mu.Unlock()
	if other {
		f.o.Changed()
	}
}

func (f *Fleet) forgetHelpers() {
	f.mu.Lock()
	some := false
	for key, h := range f.helpers {
		if time.Since(h.at) > silentAfter {
			delete(f.helpers, key)
			some = true
		}
	}
	f.mu.Unlock()
	if some {
		f.o.Changed()
	}
}

// grace is how long the engine and its helpers may take to be found at the start; the helpers
// may take twice that to be heard again when the engine is back.
const grace = 3 * time.Second

// linkChanged is told when the engine is found, or lost.
func (f *Fleet) linkChanged() {
	if since, _ := f.link.IsAway(); since.IsZero() {
		f.mu.Lock()
		if f.found {
			f.backAt = time.Now()
		}
		f.found = true
		f.mu.Unlock()
		f.link.Publish(wire.WhoSubject, nil)
		time.AfterFunc(2*grace, f.o.Changed) // who is not heard by then is not there
	}
	f.o.Changed()
}

// Pool is how one pool stands.
type Pool struct {
	Name    string
	Places  int       // commands that may be handed over at once
	Workers int       // of its helpers together
	Busy    int       // those of them that are at work, for whomever
	Helpers []Helping // by name
	Why     string    // why nothing is handed over, "" while that is not known yet
	Since   time.Time // since when the engine is away, zero if it is not
}

// Helping is one helper.
type Helping struct {
	Name, Version string
	Workers       int
	SeenAt        time.Time
	Runs          []Running
}

// Running is a command that a helper runs, for this watcher or another.
type Running struct {
	Ticket, Rule string
	Job          int64
	Own          bool // this watcher's
	Since        time.Time
}

// more is how many commands are handed over beyond what a pool's workers can begin at once, so
// that one that becomes free need not wait.
const more = 2

// Pools lists the pools that rules name, by name.
func (f *Fleet) Pools() []Pool {
	since, why := f.link.IsAway()
	f.mu.Lock()
	defer f.mu.Unlock()
	if why == "" && !f.made {
		why = f.noSetUp
	}
	var list []Pool
	for _, name := range slices.Sorted(maps.Keys(f.pools)) {
		p := Pool{Name: name, Since: since, Helpers: helping(f.helpers, name, f.ledger)}
		for _, h := range p.Helpers {
			p.Workers += h.Workers
			p.Busy += len(h.Runs)
		}
		young := time.Since(f.begun) < grace || time.Since(f.backAt) < 2*grace
		switch {
		case !since.IsZero() && !young:
			p.Why = fmt.Sprintf("the engine at %s is away: %s", f.o.Rules.Servers()[0], why)
		case !since.IsZero():
		case !f.made && why != "":
			p.Why = "the engine cannot be used: " + why
		case p.Workers == 0 && !young:
			p.Why = "the pool " + name + " has no helper"
		case p.Workers > 0 && f.made:
			p.Places = p.Workers + more
		}
		list = append(list, p)
	}
	return list
}

// helping lists the helpers of a pool, by name.
func helping(all map[string]seen, pool, ledger string) (list []Helping) {
	for _, key := range slices.Sorted(maps.Keys(all)) {
		h := all[key]
		if h.Pool != pool {
			continue
		}
		one := Helping{Name: h.Helper, Version: h.Version, Workers: h.Workers, SeenAt: h.at}
		if h.Ends {
			one.Workers = 0
		}
		for _, r := range h.Runs {
			one.Runs = append(one.Runs, Running{Ticket: r.Ticket, Rule: r.Rule, Job: r.Job, Own: r.Ledger == ledger,
				Since: h.at.Add(-wire.Seconds(r.For))})
		}
		list = append(list, one)
	}
	return list
}

// Where says on which helper a job's command runs, "" if on none, and whether its result is there
// and is being taken.
func (f *Fleet) Where(number int64) (helper string, fetched bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, w := range f.open {
		if w.ticket.Job == number && w.got != nil {
			return "", true
		}
	}
	for _, h := range f.helpers {
		for _, r := range h.Runs {
			if r.Ledger == f.ledger && r.Job == number {
				return h.Helper, false
			}
		}
	}
	return "", false
}

// keepSetUp makes what the engine must hold, again after it has lost that.
func (f *Fleet) keepSetUp() {
	nc, js, err := f.link.Conn(f.ctx)
	if err != nil {
		return
	}
	held := ""
	for f.ctx.Err() == nil {
		f.mu.Lock()
		made, pools := f.made, slices.Sorted(maps.Keys(f.pools))
		f.mu.Unlock()
		ctx, end := context.WithTimeout(f.ctx, wire.OnePart)
		now, err := holds(ctx, js, pools, f.ledger)
		made = made && err == nil && now == held
		if since, _ := f.link.IsAway(); !made && since.IsZero() {
			if err = setUp(ctx, nc, js, pools, f.ledger, f.lease); err == nil {
				held, err = holds(ctx, js, pools, f.ledger)
			}
			f.noteSetUp(err)
		}
		end()
		wait := f.lookEvery()
		if err != nil {
			wait = min(wait, time.Second)
		}
		_ = wire.Pause(f.ctx, wait)
	}
}

func (f *Fleet) noteSetUp(err error) {
	f.mu.Lock()
	was, why := f.made, f.noSetUp
	if f.made, f.noSetUp = err == nil, ""; err != nil {
		f.noSetUp = err.Error()
	}
	if err == nil {
		clear(f.brought) // a new engine has none of it
	}
	other := was != f.made || why != f.noSetUp
	f.mu.Unlock()
	if other {
		f.o.Changed()
	}
}
