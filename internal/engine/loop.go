package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
	"stilltide/internal/ledger"
	"stilltide/internal/placing"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// loop is the flow's goroutine: it alone touches the flow.
func (e *Engine) loop(ctx, runs context.Context, stopRuns context.CancelFunc) error {
	done := ctx.Done()
	safety := time.NewTicker(e.o.SafetySweep)
	defer safety.Stop()
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	ready := e.o.Ready == nil
	var lastly time.Time // when the end waits no longer
	for {
		now := time.Now()
		if !ready && e.sweptAll() {
			ready = true
			e.o.Ready(e.begun())
			e.flow.HasBegun(now)
		}
		trouble := e.heed(now)
		e.flow.Advance(now)
		e.carryOut(runs)
		if e.flow.More() {
			_ = e.ledger.Sync(runs) // the ledger's writer sets the pace; it says itself what is wrong
		}
		if e.flow.Stopping() && e.active == 0 {
			return trouble
		}
		if !lastly.IsZero() && (now.After(lastly) || e.onlySilent(now)) {
			return errLeft
		}
		if e.o.Once && e.finished() && !e.lookAgain() && !e.flow.EndWaits(now) {
			e.flow.AllCaughtUp()
			e.carryOut(runs)
			return e.unread()
		}
		events, found, wait := e.open(e.until(now, lastly), now)
		timer.Reset(wait)
		select {
		case batch := <-events:
			e.happened(batch, time.Now())
			e.takeMore(len(batch), events, found)
		case batch := <-found:
			e.happened(batch, time.Now())
			e.takeMore(len(batch), events, found)
		case res := <-e.results:
			e.attempted(res)
		case batch := <-e.desk.Ends:
			e.wasPlaced(batch)
		case ask := <-e.asks:
			ask()
		case <-e.wake:
		case <-timer.C:
		case <-safety.C:
			e.sweep()
		case <-done:
			done = nil
			e.stop()
			lastly = time.Now().Add(e.StopAfter() + leftAfter)
			stop := time.AfterFunc(e.StopAfter(), stopRuns)
			defer stop.Stop()
		}
	}
}

// heed tells the flow what may start: nothing while the ledger cannot be written, and what other
// machines can take. It returns what is wrong with the ledger if that never recovers and a single
// pass ends by it.
func (e *Engine) heed(now time.Time) error {
	e.usePools(now)
	trouble := e.troubled()
	e.flow.LedgerFails(trouble != nil)
	if !e.o.Once || !errors.Is(trouble, ledger.ErrDamaged) {
		return nil
	}
	e.flow.Stop()
	return trouble
}

// What a sweep finds waits while more rows than maxBehind wait to be durable: the placing of another
// rule's file waits for all of them; the ledger is asked again after catchUp. It also waits while
// very many files are looked into, or looked at on shares, since the flow remembers each of them: of
// the latter more, because a share that does not answer holds up the sweeps of other folders so.
const (
	maxInto   = 4096
	maxAt     = 1 << 16
	maxBehind = 2000
	catchUp   = 5 * time.Millisecond
)

// open gives the streams that are listened to now: events wait while many placings do, or the
// ledger is behind. The loop then sleeps no longer than they may be held up.
func (e *Engine) open(wait time.Duration, now time.Time) (events, found <-chan []watchfs.Event, _ time.Duration) {
	events, found = e.events.Events(), e.events.Found()
	if until, held := e.desk.HoldsUp(placing.MaxFound, now); held {
		found, wait = nil, min(wait, max(time.Until(until), 0))
	}
	if into, at := e.flow.Asking(); into > maxInto || at > maxAt {
		found = nil // their answers wake the loop
	}
	if e.ledger.Behind() > maxBehind {
		found = nil
		if e.troubled() == nil { // one that cannot be written wakes the loop when it can again
			wait = min(wait, catchUp)
		}
	}
	if _, held := e.desk.HoldsUp(placing.MaxWaiting, now); held {
		events = nil
	}
	return events, found, wait
}

// until is how long the loop may sleep if nothing happens, for ever if nothing comes due; lastly is when the
// watcher's end waits no longer, zero if it is not to end.
func (e *Engine) until(now, lastly time.Time) time.Duration {
	wait := time.Duration(1<<63 - 1)
	sooner := func(at time.Time, ok bool) {
		if ok {
			wait = min(wait, due.In(at, time.Now()))
		}
	}
	sooner(e.flow.Wake(now))
	if !e.o.Once {
		sooner(e.tell.NextBeat())
	}
	sooner(e.nextPass(now))
	sooner(e.sayLate(now))
	sooner(e.pools.next())
	sooner(lastly, !lastly.IsZero())
	return wait
}

// atOnce bounds the events that one round takes, so that what it decides soon
// reaches who carries it out.
const atOnce = 600

// takeMore takes what else is there already, so that in a burst a round has
// many files to decide on.
func (e *Engine) takeMore(taken int, events, found <-chan []watchfs.Event) {
	for taken < atOnce {
		select {
		case batch := <-events:
			e.happened(batch, time.Now())
			taken += len(batch)
		case batch := <-found:
			e.happened(batch, time.Now())
			taken += len(batch)
		case res := <-e.results:
			e.attempted(res)
		case batch := <-e.desk.Ends:
			e.wasPlaced(batch)
		default:
			return
		}
	}
}

func (e *Engine) attempted(res turn.AttemptEnd) {
	e.active--
	delete(e.cancels, res.ID)
	e.flow.AttemptEnded(res, time.Now())
	if e.fleet != nil && !res.Stopped {
		e.fleet.Over(res.ID)
	}
}

func (e *Engine) wasPlaced(batch []turn.PlacingEnd) {
	e.active -= len(batch)
	now := time.Now()
	for _, p := range batch {
		if errors.Is(p.Err, job.ErrStopped) {
			e.sayStopped(p.ID)
		}
		e.flow.PlacedEnd(p, now)
	}
}

func (e *Engine) sayStopped(job int64) {
	if path := e.flow.FileOf(job); path != "" && e.o.Said != nil {
		e.o.Said(fmt.Sprintf("the copy of %s was stopped before it was complete; nothing is lost, and the next "+
			"start makes it again", path))
	}
}

func (e *Engine) troubled() error {
	e.health.Lock()
	defer e.health.Unlock()
	return e.health.err
}

// happened brings a batch of events to the flow.
func (e *Engine) happened(batch []watchfs.Event, now time.Time) {
	for _, ev := range batch {
		bring(e.flow, ev, now)
		if ev.Kind == watchfs.Removed && ev.Dir && e.ledger.KnowsFiles() {
			e.folderWent(ev.Path)
		}
		if ev.Kind >= watchfs.Absent {
			e.folderEvent(ev)
		}
	}
}

var settleKinds = [...]settle.Kind{watchfs.Created: settle.Created, watchfs.Closed: settle.Closed,
	watchfs.Written: settle.Written, watchfs.Moved: settle.Moved, watchfs.Found: settle.Found}

// bring brings one event to the flow.
func bring(f *flow.Flow, e watchfs.Event, now time.Time) {
	switch e.Kind {
	case watchfs.Created, watchfs.Closed, watchfs.Written, watchfs.Moved, watchfs.Found:
		f.Offer(e.Path, e.Dir, settleKinds[e.Kind], now)
	case watchfs.Removed:
		f.WentAway(e.Path, e.Dir, now)
	case watchfs.Absent:
		f.WentAbsent(e.Path, errors.Is(e.Err, watchfs.ErrSilent))
	case watchfs.Present:
		f.IsThere(e.Path)
	}
}

// carryOut does what the flow decided.
func (e *Engine) carryOut(runs context.Context) {
	f := e.flow.Effects()
	defer e.flow.Took()
	e.lookBeside(f.Looks)
	e.readBeside(f.Reads)
	for _, a := range f.Starts {
		e.active++
		ctx, cancel := context.WithCancelCause(runs)
		e.cancels[a.Plan.ID] = cancel
		e.crew.begin(func() {
			defer cancel(nil)
			e.results <- e.attempt(ctx, a)
		})
	}
	for _, id := range f.Stops {
		if cancel := e.cancels[id]; cancel != nil {
			cancel(work.ErrStopJob)
		}
	}
	if len(f.Places) > 0 {
		e.active += len(f.Places)
		e.desk.Add(f.Places)
	}
	e.tellAll(time.Now())
	e.tellPasses(f.Outcomes, time.Now())
	if e.o.Report != nil && len(f.Outcomes) > 0 {
		e.o.Report(f.Outcomes)
	}
	for i := 0; i < len(f.Arrived) && e.o.Arrived != nil; i++ {
		e.o.Arrived(f.Arrived[i])
	}
	for i := 0; i < len(f.Said) && e.o.Said != nil; i++ {
		e.o.Said(f.Said[i])
	}
	if e.o.Overdue != nil {
		for _, u := range f.Overdue {
			e.o.Overdue(u)
		}
	}
	if e.o.CaughtUp != nil {
		for _, b := range f.CaughtUp {
			e.o.CaughtUp(b)
		}
	}
}

// lookAgain begins another pass of a sweep if jobs placed something where a
// rule watches: a chain goes on to its end.
func (e *Engine) lookAgain() bool {
	if e.passes == loop.MaxPasses || !e.flow.LookAgain() {
		return false
	}
	e.passes++
	for path := range e.flow.Rules().Folders() {
		e.folders[path].swept = false
	}
	e.sweep()
	return true
}

// unread says that a pass has not seen all that it was to go over.
func (e *Engine) unread() error {
	for _, path := range slices.Sorted(maps.Keys(e.folders)) {
		if why := e.folders[path].unread; why != "" {
			return fmt.Errorf("%s could not be read to its end, so some of its files may not have been seen: %s",
				path, why)
		}
	}
	return nil
}

// finished reports whether a single pass has nothing left to do.
func (e *Engine) finished() bool {
	return e.sweptAll() && e.active == 0 && e.events.Waiting() == 0 && e.flow.Finished()
}

// do runs a function in the flow's goroutine and waits for it.
func (e *Engine) do(f func()) error {
	done := make(chan struct{})
	select {
	case e.asks <- func() { f(); close(done) }:
		<-done
		return nil
	case <-e.ended:
		return errors.New("the watcher is stopping")
	}
}
