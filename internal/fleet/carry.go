package fleet

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/runner"
	"stilltide/internal/wire"
	"stilltide/internal/work"
)

// maxDamaged is how often a command is offered anew because what was sent, or came back, was
// damaged.
const maxDamaged = 5

// Carry runs a command on another machine. See work.Carrier.
func (f *Fleet) Carry(ctx context.Context, t work.Trip) (res runner.Result, by string) {
	size, err := sizeOf(t.Inputs)
	if err != nil {
		return runner.Result{Exit: 127, Err: err}, ""
	}
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	defer f.underWay(t.Pool, func() { end(errLeave) })()
	if !f.take(ctx, size) {
		return runner.Result{Stopped: true, Behind: watcherEnds(ctx)}, ""
	}
	defer f.give(size)
	for n := 1; ; n++ {
		res, by, damaged := f.once(ctx, t, size)
		if damaged == nil {
			return res, by
		}
		if n == maxDamaged {
			return runner.Result{Exit: 127, Err: fmt.Errorf("what travels is damaged again and again: %w", damaged)}, by
		}
	}
}

// underWay notes how a trip is left, until the returned function is called. When the watcher is
// to end already, it is left at once.
func (f *Fleet) underWay(pool string, leave func()) (over func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.trips++
	number := f.trips
	f.ways[number] = way{pool, leave}
	if f.leaving {
		leave()
	}
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		delete(f.ways, number)
	}
}

// way is how a trip under way is left.
type way struct {
	pool  string
	leave func()
}

// watcherEnds reports whether a context has ended because the watcher does: a person's stop and
// a timeout have causes of their own.
func watcherEnds(ctx context.Context) bool {
	cause := context.Cause(ctx)
	return cause == errLeave || cause == context.Canceled
}

// once offers a command, or takes it up that an earlier attempt has offered, and waits for its
// result. damaged says that it is to be offered anew.
func (f *Fleet) once(ctx context.Context, t work.Trip, size int64) (res runner.Result, by string, damaged error) {
	w, resumed, err := f.ticketOf(ctx, t)
	if err != nil {
		return runner.Result{Exit: 127, Err: err}, "", nil
	}
	w.size = size
	defer w.output.end()
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	if t.RunHere {
		go f.giveBack(ctx, w, end) // ends with the trip
	}
	if !resumed || !f.isThere(ctx, w) {
		if err := f.handOver(ctx, w, t); err != nil {
			return f.given(ctx, w, err)
		}
	}
	w.offered.Store(true)
	r, err := f.wait(ctx, w, t)
	if err != nil {
		return f.given(ctx, w, err)
	}
	if r.Damaged {
		f.mu.Lock()
		clear(f.brought) // it may be that what travels along is not there any more
		f.mu.Unlock()
		f.settle(w)
		return res, r.Helper, errors.New(r.NotRun)
	}
	if err := f.fetch(ctx, w, t, r); err != nil {
		if ctx.Err() != nil {
			return f.given(ctx, w, err)
		}
		if f.settle(w); errors.Is(err, wire.ErrDamaged) {
			return res, r.Helper, err
		}
		return runner.Result{Exit: 127, Err: fmt.Errorf("what came back cannot be taken: %w", err)}, r.Helper, nil
	}
	return ended(r, t.Output), r.Helper, nil
}

// giveBack ends a trip whose pool cannot be used and whose command would run here then: as long as
// the engine has not confirmed the offer, or when it has and there is no helper to take it. What a
// helper may be running is waited for.
func (f *Fleet) giveBack(ctx context.Context, w *trip, end context.CancelCauseFunc) {
	tick := time.NewTicker(f.lookEvery())
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		since, _ := f.link.IsAway()
		if f.poolAway(w.ticket.Pool) && (!w.offered.Load() || since.IsZero()) {
			end(work.ErrPoolAway)
			return
		}
	}
}

// poolAway reports whether nothing can be handed over to a pool.
func (f *Fleet) poolAway(name string) bool {
	for _, p := range f.Pools() {
		if p.Name == name {
			return p.Why != ""
		}
	}
	return false
}

// errLeave says that the watcher ends, and that the command goes on without it.
var errLeave = errors.New("the watcher ends")

// given ends a trip whose result was not waited for: a person or a timeout has stopped it, or
// the watcher ends.
func (f *Fleet) given(ctx context.Context, w *trip, err error) (runner.Result, string, error) {
	switch {
	case ctx.Err() == nil:
		f.settle(w)
		return runner.Result{Exit: 127, Err: err}, "", nil
	case errors.Is(context.Cause(ctx), work.ErrPoolAway):
		f.cancel(w.ticket)
		f.settle(w)
		return runner.Result{Exit: 127, Err: work.ErrPoolAway}, "", nil
	case watcherEnds(ctx):
		return runner.Result{Stopped: true, Behind: true}, "", nil
	}
	f.cancel(w.ticket)
	f.settle(w)
	return runner.Result{Stopped: true}, "", nil
}

// ticketOf finds the ticket under which the same was offered before, or makes one, durably.
// What else was offered for the step is given up.
func (f *Fleet) ticketOf(ctx context.Context, t work.Trip) (w *trip, resumed bool, err error) {
	content := contentOf(t)
	w = &trip{result: make(chan jetstream.Msg, 1)}
	f.mu.Lock()
	var old []job.Ticket
	for _, k := range f.known {
		switch {
		case k.Job != t.Job || k.Step != t.Step || f.open[k.Name] != nil:
		case k.Content == content && k.Pool == t.Pool && !resumed:
			w.ticket, resumed = k, true
		default:
			old = append(old, k)
		}
	}
	f.mu.Unlock()
	for _, k := range old {
		f.cancel(k)
		f.settle(&trip{ticket: k})
	}
	if !resumed {
		w.ticket = job.Ticket{Name: fmt.Sprintf("%d-%d-%d-%s", t.Job, t.Attempt, t.Step,
			strings.ToLower(rand.Text()[:10])),
			Job: t.Job, Attempt: t.Attempt, Step: t.Step, Pool: t.Pool, Content: content, Handed: time.Now()}
		f.o.Book.RecordTicket(w.ticket)
		if err := f.o.Book.Sync(ctx); err != nil {
			return nil, false, fmt.Errorf("the ledger cannot be written: %w", err)
		}
	}
	w.output = newOutput(t.Output)
	f.mu.Lock()
	f.open[w.ticket.Name], f.known[w.ticket.Name] = w, w.ticket
	f.mu.Unlock()
	return w, resumed, nil
}

// contentOf is the SHA-256 of what a trip hands over, by the sizes and times of its files.
func contentOf(t work.Trip) string {
	sum := sha256.New()
	put := json.NewEncoder(sum)
	env := slices.DeleteFunc(slices.Clone(t.Env), func(entry string) bool {
		return strings.HasPrefix(entry, "TIDE_NOW=") // each attempt has its own
	})
	slices.Sort(env)
	_ = put.Encode([]any{t.Pool, t.Rule, t.Args, env, t.Stdin, t.Timeout, t.Texts})
	for _, list := range [][]plan.Carried{t.Inputs, t.Bring} {
		for _, c := range list {
			if info, err := os.Lstat(c.Here); err == nil {
				_ = put.Encode([]any{c.There, info.Size(), info.ModTime().UnixNano(), info.Mode()})
			}
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// take waits until there is room for an input's bytes; one that is larger than all of it goes
// alone.
func (f *Fleet) take(ctx context.Context, size int64) bool {
	stop := context.AfterFunc(ctx, f.room.Broadcast)
	defer stop()
	f.mu.Lock()
	defer f.mu.Unlock()
	for f.bytes > 0 && f.bytes+size > f.o.Rules.MaxInFlight() {
		if ctx.Err() != nil {
			return false
		}
		f.room.Wait()
	}
	f.bytes += size
	return true
}

func (f *Fleet) give(size int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.bytes -= size
	f.room.Broadcast()
}

// sizeOf is how many bytes the inputs have, all that is in a folder included.
func sizeOf(list []plan.Carried) (size int64, err error) {
	for _, c := range list {
		err := filepath.Walk(c.Here, func(_ string, info os.FileInfo, err error) error {
			if err == nil && info.Mode().IsRegular() {
				size += info.Size()
			}
			return err
		})
		if err != nil {
			return 0, err
		}
	}
	return size, nil
}

// handOver sends the inputs and the offer, again and again until that is confirmed.
func (f *Fleet) handOver(ctx context.Context, w *trip, t work.Trip) error {
	_, js, err := f.link.Conn(ctx)
	if err != nil {
		return err
	}
	defer f.sayFull(t.Pool, w.size)()
	o := wire.Offer{Version: wire.WireVersion, Ticket: w.ticket.Name, Ledger: f.ledger, Pool: t.Pool, Rule: t.Rule,
		Job: t.Job, Attempt: t.Attempt, Root: work.AwayRoot, Args: t.Args, Env: t.Env, Secrets: t.Secrets,
		Stdin: t.Stdin, Apart: t.Stdout != "", Timeout: t.Timeout.Seconds()}
	for _, text := range t.Texts {
		o.Texts = append(o.Texts, wire.Text(text))
	}
	s := &wire.Sender{Js: js, Subject: wire.FileSubject(f.ledger, w.ticket.Name) + ".in"}
	var items []wire.Item
	for _, c := range t.Inputs {
		some, err := carried(ctx, s, c)
		if err != nil {
			return err
		}
		items = append(items, some...)
	}
	some, err := scratch(ctx, s, t.Scratch)
	if err != nil {
		return err
	}
	if o.Inputs, err = s.Manifest(ctx, append(items, some...)); err != nil {
		return err
	}
	if o.Bring, err = f.bring(ctx, js, t.Bring); err != nil {
		return err
	}
	m, err := wire.Sign(wire.JobSubject(t.Pool, f.ledger, w.ticket.Name), o, f.key)
	if err != nil {
		return err
	}
	return f.offer(ctx, js, m)
}

// A hand-over that takes longer than this, and more for large inputs, is said: the engine may be
// full, or have lost its leader.
const (
	longHandOver = 20 * time.Second
	slowest      = 1 << 20 // bytes a second
)

// sayFull says when a hand-over takes long, until the returned function is called.
func (f *Fleet) sayFull(pool string, size int64) (over func()) {
	late := time.AfterFunc(f.long+time.Duration(size/slowest)*time.Second, func() {
		if since, _ := f.link.IsAway(); since.IsZero() {
			f.sayOnce(fmt.Sprintf("the engine does not take what is handed over to %s; its streams may be full, or "+
				"without a leader. It is tried again and again", pool))
		}
	})
	return func() { late.Stop() }
}

// offer publishes the offer. One that is there already is the same.
func (f *Fleet) offer(ctx context.Context, js jetstream.JetStream, m *nats.Msg) error {
	return wire.Until(ctx, func(ctx context.Context) error {
		_, err := js.PublishMsg(ctx, m)
		if wire.IsDuplicate(err) {
			return nil
		}
		return err
	})
}

// carried sends an input: a file, or a folder with all that is in it.
func carried(ctx context.Context, s *wire.Sender, c plan.Carried) ([]wire.Item, error) {
	item, err := s.Item(ctx, c.Here, c.There)
	if err != nil || !item.Folder {
		return []wire.Item{item}, err
	}
	below, err := s.Tree(ctx, c.Here, c.There+"/")
	return append([]wire.Item{item}, below...), err
}

// scratch sends what earlier steps have left in the attempt's own folder.
func scratch(ctx context.Context, s *wire.Sender, folder string) (items []wire.Item, err error) {
	if folder == "" {
		return nil, nil
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if plan.Hidden(e.Name()) { // lists with paths of this machine, and what commands have printed
			continue
		}
		some, err := carried(ctx, s, plan.Carried{Here: filepath.Join(folder, e.Name()), There: "scratch/" + e.Name()})
		if err != nil {
			return nil, err
		}
		items = append(items, some...)
	}
	return items, nil
}

// bring makes sure that the engine has the files that travel along: each content once.
func (f *Fleet) bring(ctx context.Context, js jetstream.JetStream, list []plan.Carried) (items []wire.Item, err error) {
	for _, c := range list {
		info, err := os.Stat(c.Here) // what a link leads to is meant
		if err != nil {
			return nil, err
		}
		if !info.Mode().IsRegular() {
			return nil, fmt.Errorf("bring: %s is no file; name the files in it", plan.Display(c.Here))
		}
		item := wire.Item{Path: c.There, Size: info.Size(), Mode: uint32(info.Mode().Perm()),
			Mod:   info.ModTime().UnixNano(),
			Parts: int((info.Size() + wire.PartSize - 1) / wire.PartSize)}
		if item.SHA, err = wire.SumOf(c.Here); err != nil {
			return nil, err
		}
		item.At = bringSubject(f.ledger, item.SHA)
		if err := f.sendBrought(ctx, js, c.Here, item); err != nil {
			return nil, err
		}
		items = append(items, item)
	}
	return items, nil
}

// bringSubject is where the parts of a file are that travels along: below the ledger's name, by
// its content.
func bringSubject(ledger, sum string) string { return wire.FileSubject(ledger, "bring-"+sum) + ".in.1" }

// recently is how long the engine is taken to have a content that it was seen to have.
const recently = 10 * time.Minute

func (f *Fleet) sendBrought(ctx context.Context, js jetstream.JetStream, path string, item wire.Item) error {
	f.mu.Lock()
	fresh := time.Since(f.brought[item.SHA]) < recently
	f.mu.Unlock()
	if fresh || item.Parts == 0 {
		return nil
	}
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	if _, _, err := wire.Put(ctx, js, item.At, file); err != nil { // parts that are there already are refused, and stay
		return err
	}
	f.mu.Lock()
	f.brought[item.SHA] = time.Now()
	f.mu.Unlock()
	return nil
}

func (f *Fleet) printed(m *nats.Msg) {
	offset, err := strconv.ParseInt(m.Header.Get(wire.OffsetHeader), 10, 64)
	if err != nil || offset < 0 {
		return
	}
	f.mu.Lock()
	w := f.open[wire.LastWord(m.Subject)]
	f.mu.Unlock()
	if w != nil {
		w.output.more(offset, m.Data)
	}
}

// ended is a result as that of a command of this machine.
func ended(r wire.Result, output string) runner.Result {
	res := runner.Result{Exit: r.Exit, Signal: r.Signal, TimedOut: r.TimedOut, Stopped: r.Stopped, Left: r.Left,
		Ran: wire.Seconds(r.Ran), CPU: wire.Seconds(r.CPU), Memory: r.Memory, Lost: int(r.Delivery) - 1}
	switch {
	case r.Lost:
		res.Exit, res.Err = 127, fmt.Errorf("%d helpers were lost while they ran it, so it may be what ends them",
			r.Delivery-1)
	case r.NoRoom:
		res.Exit, res.Err = 127, fmt.Errorf("%s has no room for it: %w", r.Helper, syscall.ENOSPC)
	case r.NotRun != "":
		res.Exit, res.Err = 127, fmt.Errorf("%s could not run it: %s", r.Helper, r.NotRun)
	}
	if info, err := os.Stat(output); err == nil {
		res.Output = info.Size()
	}
	return res
}
